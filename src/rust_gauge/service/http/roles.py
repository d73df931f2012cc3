"""The role that each route needs, by its operation id. This table is the only place for it.

`access.get_tenant` enforces it. A route that is missing here is refused to everybody, and a test fails.
"""

from fastapi.routing import APIRoute

from rust_gauge.core.roles import Role

# Answered without a session or token; a feed's address proves the sender by itself, and so does an invitation's link.
_PUBLIC = """
    sign_in receive receive_recipients receive_tls_report healthz readyz
    look_at_invitation accept_invitation get_sign_in_options
    start_passkey_sign_in sign_in_with_passkey leave_for_issuer return_from_issuer
"""
PUBLIC = frozenset(_PUBLIC.split())

# About the person who asks, or all tenants that they may see.
_SIGNED_IN = """
    get_session sign_out list_tokens add_token rotate_token delete_token get_wall list_worklist search
    follow_changes list_sessions get_preferences set_preferences
    end_session end_other_sessions change_password get_second_factor start_second_factor confirm_second_factor
    remove_second_factor renew_recovery_codes list_passkeys start_passkey add_passkey delete_passkey list_identities
    delete_identity check_second_factor
"""
SIGNED_IN = frozenset(_SIGNED_IN.split())

# Of the whole installation: `access.Owner` lets its owners pass.
_OWNER = """
    list_tenants add_tenant delete_tenant list_people get_person change_owner delete_person reset_second_factor
    list_owner_invitations invite_owner delete_owner_invitation list_assignments add_assignment delete_assignment
    list_installation_audit_log check_audit_log
"""
OWNER = frozenset(_OWNER.split())

_VIEWER = """
    list_domains get_domain list_audits get_newest_audit compare_audits get_audit list_history check_spf
    list_batch_results get_audit_settings list_relays get_relay_usage list_proofs list_senders get_plan check_plan
    list_watches get_watch get_watch_settings list_update_servers preview_publication list_publications list_providers
    list_events get_flow get_flow_days get_causes list_flow_names compare_flow list_reply_patterns get_cause_rules
    list_built_in_rules list_shifts get_shift get_flow_settings get_recipient_data list_erasures list_readings
    explain_reading forecast_reading get_headroom get_reading_settings list_annotations get_work_item list_members
    list_lines get_alert_settings get_report list_notifications list_stream_pauses get_address_words list_suppression
    count_suppression export_suppression get_address_status list_suppression_changes get_suppression_growth
    get_suppression_policy get_suppression_matching list_gates list_unsubscribes list_jobs get_job get_job_part
    get_job_archive list_feeds get_feed list_rejected_rows list_webhooks list_webhook_calls get_tenant_settings
    assay_message
    list_assay_rules get_assay_settings get_text_model list_trays get_tray get_tray_connection list_caught_messages
    wait_for_message compare_caught_messages list_series get_series get_caught_message get_caught_assay
    get_conversation get_caught_source get_caught_part list_seeds get_seed list_outlets get_outlet list_placement_runs
    get_placement_run get_placement_message get_placement_history get_placement_assay list_placement_schedules
    get_placement_schedule get_placement_schedule_message list_placement_shares
    list_warmup_plans get_warmup_plan get_warmup_days preview_warmup_plan
    list_verifiers get_verifier get_verification_settings get_verification_gauge list_disagreements
    list_new_recipients get_checklist
    list_receiver_reports get_receiver_report get_report_original list_rejected_reports list_receivers
    get_report_retention get_source_overview get_source get_stream_alignment rehearse_policy get_policy_path
    list_reported_domains get_tls_overview get_sts_policy
    get_report_style list_report_shares
"""

_OPERATOR = """
    add_domain update_domain delete_domain run_audit check_message read_feedback_report start_batch set_relay
    delete_relay start_proof recheck_proof confirm_proof set_plan_settings start_watch cancel_watch
    recheck_watch rename_provider load_events stream_events backtest_cause_rules add_annotation delete_annotation
    act_on_work_item act_on_work_items run_detection send_report pause_stream resume_stream start_import
    start_policy_backtest check_addresses add_suppression lift_suppression decide_suppression start_list_check
    get_clearance stream_clearance add_unsubscribe_links add_job_piece run_job cancel_job add_feed
    update_feed delete_feed send_to_feed delete_rejected_rows replay_rejected_rows try_mapping
    add_caught_message delete_caught_message empty_tray recheck_caught_message
    learn_text_model check_seed check_outlet
    start_placement_run put_placement_message cancel_placement_run delete_placement_run
    add_placement_share delete_placement_share
    add_placement_schedule update_placement_schedule delete_placement_schedule copy_placement_schedule
    run_placement_schedule put_placement_schedule_message
    add_warmup_plan update_warmup_plan delete_warmup_plan overrule_warmup_plan start_list_cut
    add_new_recipients verify_addresses list_recipient_sources
    add_receiver_report start_report_files replay_reports delete_rejected_report delete_receiver_report
    claim_source decide_source
    set_report_style set_report_logo delete_report_logo add_report_share delete_report_share
    set_policy_path stop_policy_path choose_path_stage serve_sts_policy
"""

_ADMIN = """
    set_audit_settings add_plan_key set_watch_settings set_update_server delete_update_server add_publication
    roll_back_publication set_cause_rules apply_cause_rules cancel_cause_rules set_flow_settings erase_recipient
    set_reading_settings reset_reading_settings set_alert_settings set_address_words set_suppression_policy
    test_alert_channel
    reset_suppression_policy set_suppression_matching add_gate delete_gate add_webhook update_webhook
    delete_webhook rotate_webhook_secret
    test_webhook replay_webhook change_role remove_member list_invitations invite delete_invitation
    set_tenant_settings list_audit_log add_tray update_tray delete_tray rotate_tray_password
    set_assay_settings
    add_seed update_seed delete_seed add_outlet update_outlet delete_outlet
    add_verifier update_verifier delete_verifier try_verifier set_verification_settings
    add_recipient_source delete_recipient_source
    set_report_retention
"""

# Jobs that carry out a change of settings are stopped and resumed by those who may change them.
JOB_ROLES: dict[str, Role] = {"rules": Role.ADMIN, "recompute": Role.ADMIN}

ROLES: dict[str, Role] = {
    operation: role
    for role, operations in ((Role.VIEWER, _VIEWER), (Role.OPERATOR, _OPERATOR), (Role.ADMIN, _ADMIN))
    for operation in operations.split()
}


# Scopes of tokens: `capability:read` or `capability:write`, which includes reading. A call's capability is its tag.
CAPABILITIES = (
    "assays", "audits", "bench", "domains", "events", "feeds", "flow", "installation", "jobs", "people", "placement",
    "plans", "proofs", "publishing", "readings", "reports", "suppression", "verification", "warmup", "watches",
    "webhooks", "worklist",
)  # fmt: skip


def scope_of(route: APIRoute) -> str | None:
    """Return the scope that a call needs; None for what a token may always ask: about itself."""
    tag, operation = str(route.tags[0]) if route.tags else "", route.operation_id or ""
    if tag not in CAPABILITIES:
        return None
    if operation in ROLES:
        reads = ROLES[operation] is Role.VIEWER or operation in _READ_BY_POST
    else:
        reads = (route.methods or set()) <= {"GET", "HEAD"}
    return f"{tag}:{'read' if reads else 'write'}"


# Answers to questions that need a body: they change nothing.
_READ_BY_POST = frozenset(
    {
        "get_clearance", "stream_clearance", "check_addresses", "check_message", "forecast_reading", "assay_message",
        "rehearse_policy",
    }
)  # fmt: skip


def allows(scopes: tuple[str, ...], needed: str) -> bool:
    """Return whether a token with these scopes may do what needs one."""
    capability, _, access = needed.partition(":")
    return needed in scopes or (access == "read" and f"{capability}:write" in scopes)

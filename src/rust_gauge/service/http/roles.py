"""Which role each route needs, by its operation id. This table is the only place that says so.

`access.get_tenant` enforces it. A route that is missing here is refused to everybody, and a test fails.
"""

from rust_gauge.core.roles import Role

# Answered without a session or token; a feed's address proves the sender by itself.
PUBLIC = frozenset({"sign_in", "receive", "healthz", "readyz"})

# About the person who asks, or all tenants that they may see.
SIGNED_IN = frozenset({"who_am_i", "sign_out", "list_tokens", "make_token", "drop_token", "show_wall", "list_worklist"})

_VIEWER = """
    list_domains get_domain list_audits newest_audit compare_audits get_audit list_history try_spf
    list_batch_results get_audit_settings list_relays list_proofs list_senders
    get_plan list_watches get_watch get_watch_settings list_update_servers show_change list_publications
    list_providers list_events show_flow show_flow_days show_causes list_flow_names compare_flow list_wordings
    get_cause_rules list_shipped_rules list_shifts get_shift get_flow_settings get_recipient_data list_erasures
    show_readings show_moved look_ahead show_room get_reading_settings list_marks
    get_work_item list_people list_lines get_alert_settings make_report list_told list_brakes
    get_address_words list_suppression count_suppression export_suppression get_address_status
    list_suppression_changes get_suppression_growth get_suppression_policy get_suppression_matching
    list_gates show_unsubscribes list_jobs get_job get_job_part
    list_feeds get_feed list_refused list_webhooks list_webhook_calls
"""

_OPERATOR = """
    add_domain change_domain forget_domain run_audit check_message read_feedback_report
    start_batch describe_relay forget_relay start_proof check_proof give_code
    check_plan put_plan_settings start_watch stop_watch look_now
    name_provider load_events try_cause_rules add_mark drop_mark
    act_on_work_item look_for_work send_report put_brake release_brake
    start_import start_policy_trial check_addresses add_suppression lift_suppression decide_suppression
    start_list_check ask_clearance stream_clearance make_unsubscribe_links
    put_job_piece run_job stop_job
    add_feed change_feed drop_feed send_to_feed drop_refused replay_refused try_mapping
"""

_ADMIN = """
    put_audit_settings make_key put_watch_settings put_update_server forget_update_server apply_change roll_back
    put_cause_rules apply_cause_rules stop_cause_rules put_flow_settings erase_recipient
    put_reading_settings drop_reading_settings put_alert_settings
    put_address_words put_suppression_policy drop_suppression_policy put_suppression_matching
    add_gate drop_gate add_webhook change_webhook drop_webhook test_webhook replay_webhook
"""

# Jobs that carry out a change of settings are stopped and resumed by those who may change them.
JOB_ROLES: dict[str, Role] = {"rules": Role.ADMIN, "recompute": Role.ADMIN}

ROLES: dict[str, Role] = {
    operation: role
    for role, operations in ((Role.VIEWER, _VIEWER), (Role.OPERATOR, _OPERATOR), (Role.ADMIN, _ADMIN))
    for operation in operations.split()
}

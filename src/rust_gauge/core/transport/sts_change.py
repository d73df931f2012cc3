"""Changing an MTA-STS policy in the right order (RFC 8461 §3.1, §5, §8.3): senders keep a policy for its `max_age`.

While a sender holds the old policy, it delivers only to the hosts that the old one names. So a new host has to be in
the policy, and that policy known to all, before the MX record names it; an old host goes out of it last.
"""

from dataclasses import dataclass

from rust_gauge.core.transport.mta_sts import StsPolicy, covers

_CHECKED_DAILY = 86_400  # seconds: senders look at the record's id about once a day (§3.3)


@dataclass(frozen=True, slots=True)
class StsStep:
    """One step. `kind` is policy, mx or record; `seconds` of waiting before the next; `policy` is the file to serve at
    this step, where it changes."""

    kind: str
    title: str
    why: str
    seconds: int = 0
    policy: str = ""


def policy_text(mode: str, mx: tuple[str, ...], max_age: int) -> str:
    """Return a policy file (§3.2)."""
    return "\n".join(["version: STSv1", f"mode: {mode}", *(f"mx: {host}" for host in mx), f"max_age: {max_age}"]) + "\n"


def steps_between(old: StsPolicy, new: StsPolicy) -> tuple[StsStep, ...]:
    """Return the steps from a policy that is served to another one; none where they say the same."""
    new_age, old_age = new.max_age or 0, old.max_age or 0
    added = tuple(host for host in new.mx if not any(covers(pattern, host) for pattern in old.mx))
    removed = tuple(host for host in old.mx if host not in new.mx)
    wait = max(old_age, _CHECKED_DAILY) if old.mode == "enforce" else _CHECKED_DAILY
    final = policy_text(new.mode, new.mx, new_age)
    if (old.mode, old.mx, old.max_age) == (new.mode, new.mx, new.max_age):
        return ()
    steps: list[StsStep] = []
    if new.mode == "none":
        text = policy_text("none", (), min(old_age, _CHECKED_DAILY) or _CHECKED_DAILY)
        return (
            StsStep("policy", "Serve a policy with mode none, under a new id",
                    "Senders that hold the old policy fetch this one and stop requiring TLS (§8.3)", wait, text),
            StsStep("record", "Remove the record at _mta-sts, then the policy",
                    "Nobody holds the old policy any longer"),
        )  # fmt: skip
    if added:
        both = policy_text(old.mode if old.mode != "none" else new.mode, old.mx + added, old_age or new_age)
        steps += [
            StsStep("policy", f"Serve a policy that names {', '.join(added)} as well, under a new id",
                    "A sender that holds a policy without a host does not deliver to it", wait, both),
            StsStep("mx", f"Add {', '.join(added)} to the MX records",
                    "By now every sender knows a policy that names it", 0),
        ]  # fmt: skip
    if removed:
        steps.append(
            StsStep("mx", f"Remove {', '.join(removed)} from the MX records",
                    "Senders keep the old MX records for their TTL; an hour is assumed here", 3600)
        )  # fmt: skip
    tighter = old.mode != "enforce" and new.mode == "enforce"
    why = (
        "From now on mail is kept back where TLS fails: the TLS reports of the last weeks should be without failures"
        if tighter
        else "Senders see the new id within about a day and fetch it"
    )
    steps.append(StsStep("policy", f"Serve the new policy (mode {new.mode}), under a new id", why, 0, final))
    return tuple(steps)

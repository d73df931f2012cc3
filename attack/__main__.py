"""`make attack`: all of it, or `python -m attack schema kills` for some. Half an hour of soak, an hour in all.

schema     schemathesis over the OpenAPI document
walk       every route as a stranger, a member of another tenant, and with each role
addresses  the table of addresses that outgoing calls may not reach, also by redirect and by name
bombs      patterns, archives, nesting, charsets: what is small and grows
slow       2,000 slow clients
fuzz       every parser on mutated inputs
kills      SIGKILL of each part, 50 times
catching   50 messages a second to a tray for ten minutes, and messages that are made to be too much
soak       half of the top load for half an hour
"""

import os
import resource
import subprocess
import sys
from datetime import UTC, datetime

from bench.world import machine

from attack import catching, kills, schema, slow, soak
from attack.site import running

_EXAMPLES = int(os.environ.get("ATTACK_EXAMPLES", "20"))
_ROUNDS = int(os.environ.get("ATTACK_ROUNDS", "50"))
_MINUTES = float(os.environ.get("ATTACK_MINUTES", "30"))
_FUZZ = os.environ.get("ATTACK_FUZZ", "300")  # seconds
_TESTS = {
    "walk": ["tests/service/test_routes.py", "tests/service/test_access.py"],
    "addresses": ["tests/core/test_reachable.py", "tests/gateways/test_webhook.py", "tests/service/test_webhooks.py"],
    "bombs": ["tests/service/test_hostile_input.py", "tests/service/test_poison.py", "tests/core/test_patterns.py"],
}


def main() -> int:
    """Return 1 when anything was not as promised."""
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(8192, hard) if hard > 0 else 8192, hard))
    names = sys.argv[1:] or ["walk", "addresses", "bombs", "fuzz", "schema", "slow", "kills", "catching", "soak"]
    print(f"{datetime.now(UTC):%Y-%m-%d} on {machine()}", flush=True)
    bad = []
    for name in names:
        print(f"\n== {name}", flush=True)
        if not _attack(name):
            bad.append(name)
    print(f"\n{'Not as promised: ' + ', '.join(bad) if bad else 'All as promised.'}")
    return 1 if bad else 0


def _attack(name: str) -> bool:
    if name in _TESTS:
        return subprocess.run([sys.executable, "-m", "pytest", "-q", *_TESTS[name]]).returncode == 0
    if name == "fuzz":
        return subprocess.run([sys.executable, "-m", "tests.fuzz", _FUZZ]).returncode == 0
    with running(requests_per_minute="0", requests_per_minute_of_source="0") as site:
        if name == "schema":
            return schema.run(site, _EXAMPLES)
        if name == "slow":
            return slow.run(site)
        if name == "kills":
            return kills.run(site, _ROUNDS)
        if name == "catching":
            return catching.run(site, min(10, _MINUTES))
        return soak.run(site, _MINUTES)


if __name__ == "__main__":
    sys.exit(main())

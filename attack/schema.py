"""Schemathesis over the whole OpenAPI document: no 5xx but those that it declares, no undeclared status, no response
that breaks its schema. Once as a token, once as a signed-in person; most calls go to a tenant that has something.
"""

import http.cookiejar
import json
import os
import subprocess
import sys
import urllib.request
from datetime import UTC, datetime
from pathlib import Path

from attack.kills import events
from attack.site import EMAIL, PASSWORD, TENANT, Site

_CHECKS = (
    "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance,"
    "negative_data_rejection,ignored_auth"
)
# What would end the session or account that the run uses.
NOT_CALLED = ("sign_out", "end_session", "end_other_sessions", "change_password", "delete_person", "delete_token",
              "rotate_token", "change_owner", "remove_member", "change_role")  # fmt: skip
# Names that exist are used in most calls; the rest is made up, as a stranger's would be.
_CONFIG = f"""
[checks.not_a_server_error]
expected-statuses = ["2xx", "3xx", "4xx", 502, 503]  # declared: no answer from outside, or none at the moment

[dictionaries]
tenants = {{ values = ["{TENANT}"] }}
domains = {{ values = ["news.d.example"] }}
feeds = {{ values = ["log"] }}
relays = {{ values = ["office-1"] }}
people = {{ values = ["ruan@skerry.example"] }}
ids = {{ values = [1, 2, 3] }}

[parameters]
"path.tenant" = {{ dictionary = "tenants", probability = 0.9 }}
"path.email" = {{ dictionary = "people", probability = 0.7 }}
"path.relay" = {{ dictionary = "relays", probability = 0.7 }}
"path.id" = {{ dictionary = "ids", probability = 0.7 }}
"query.tenant" = {{ dictionary = "tenants", probability = 0.7 }}
"query.domain" = {{ dictionary = "domains", probability = 0.7 }}

[[operations]]
include-path-regex = "/domains/"
parameters = {{ "path.name" = {{ dictionary = "domains", probability = 0.8 }} }}

[[operations]]
include-path-regex = "/feeds/"
parameters = {{ "path.name" = {{ dictionary = "feeds", probability = 0.8 }} }}
"""


_ENVIRONMENT = {
    "NO_COLOR": "1", "PYTHONPATH": str(Path(__file__).resolve().parent.parent),
    "SCHEMATHESIS_HOOKS": "attack.serializers",
}  # fmt: skip


def run(site: Site, examples: int) -> bool:
    """Print what was found; return whether all is well. `examples` for each operation and phase."""
    well = True
    (site.home / "schemathesis.toml").write_text(_CONFIG)
    _fill(site)
    for who, headers in (("a token", {"Authorization": f"Bearer {site.token}"}), ("a session", _session(site))):
        command = [
            str(Path(sys.executable).parent / "schemathesis"), "run", f"{site.url}/api/v1/openapi.json",
            "--checks", _CHECKS, "--max-examples", str(examples), "--phases", "examples,coverage,fuzzing",
            "--request-timeout", "60", "--no-shrink", "--continue-on-failure", "--workers", "2", "--warnings", "off",
            "--suppress-health-check", "all",
        ]  # fmt: skip
        for name, value in headers.items():
            command += ["-H", f"{name}: {value}"]
        for name in NOT_CALLED:
            command += ["--exclude-operation-id", name]
        if who == "a session":
            command[command.index("--checks") + 1] = _CHECKS.replace(",ignored_auth", "")
        done = subprocess.run(
            command, cwd=site.home, capture_output=True, text=True, env={**os.environ, **_ENVIRONMENT}
        )
        summary = done.stdout[done.stdout.rfind("= SUMMARY") :] if "= SUMMARY" in done.stdout else done.stdout[-3000:]
        print(f"schemathesis as {who}: {'failures' if done.returncode else 'no failure'}\n{summary}", flush=True)
        if done.returncode:
            report = Path(f"attack-schema-{who.split()[1]}.txt")
            report.write_text(done.stdout + done.stderr)
            print(f"Details: {report}")
            well = False
    return well


def _fill(site: Site) -> None:
    """Create a domain, events, a feed and more of what routes are about."""
    base = f"{site.url}/api/v1/tenants/{TENANT}"
    site.post(f"{base}/events", events("schema"), "application/x-ndjson")
    for path, body in (
        ("domains", {"name": "news.d.example"}),
        ("domains/news.d.example/audits", {}),
        ("feeds", {"name": "log", "kind": "http"}),
        ("annotations", {"day": f"{datetime.now(UTC):%Y-%m-%d}", "text": "a new key", "domain": "news.d.example"}),
        ("invitations", {"email": "ruan@skerry.example", "role": "operator"}),
    ):
        site.post(f"{base}/{path}", json.dumps(body).encode())


def _session(site: Site) -> dict[str, str]:
    """Return the headers of a person who signed in."""
    jar = http.cookiejar.CookieJar()
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
    body = json.dumps({"email": EMAIL, "password": PASSWORD}).encode()
    request = urllib.request.Request(
        f"{site.url}/api/v1/session", body, {"Content-Type": "application/json", "Origin": site.url}
    )
    opener.open(request).read()
    return {"Cookie": "; ".join(f"{cookie.name}={cookie.value}" for cookie in jar), "Origin": site.url}

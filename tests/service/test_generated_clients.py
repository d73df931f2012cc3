"""Clients that two independent generators make from the OpenAPI document work: Python, and TypeScript with strict types.

Each signs in with a token, adds a domain, sends events, reads them page by page, and gets a typed problem.
"""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

from tests.conftest import Office

ROOT = Path(__file__).parents[2]
CONSOLE = ROOT / "console"
# What the generator does not know by itself: media types that are text or octets to it.
PYTHON_CONFIG = {
    "content_type_overrides": dict.fromkeys(
        ("application/x-ndjson", "application/mbox", "message/rfc822", "text/csv", "text/plain"),
        "application/octet-stream",
    )
}
PYTHON_PROGRAM = """
import json, sys
from rust_gauge_client import AuthenticatedClient
from rust_gauge_client.api.domains import add_domain, get_domain
from rust_gauge_client.api.events import list_events, load_events
from rust_gauge_client.models import NewDomain, Problem
from rust_gauge_client.models.new_event import NewEvent
from rust_gauge_client.types import UNSET

url, token, tenant, rows = sys.argv[1:]
client = AuthenticatedClient(base_url=url, token=token)
domain = add_domain.sync(tenant, client=client, body=NewDomain(name="python.example"))
loaded = load_events.sync(tenant, client=client, body=[NewEvent.from_dict(row) for row in json.loads(rows)])
recipients, cursor = [], UNSET
while True:
    page = list_events.sync(tenant, client=client, limit=2, cursor=cursor)
    recipients += [event.recipient for event in page.items]
    cursor = page.next_
    if not cursor:
        break
problem = get_domain.sync(tenant, "nowhere.example", client=client)
assert isinstance(problem, Problem), problem
print(json.dumps([domain.name, loaded.stored, sorted(recipients), problem.status, problem.remedy]))
"""
TYPESCRIPT_PROGRAM = """
import {addDomain, getDomain, listEvents, loadEvents} from './client/index';
import type {NewEvent, Problem} from './client/index';
import {client} from './client/client.gen';

declare const process: {argv: string[]};

async function main() {
const [url, token, tenant, rows] = process.argv.slice(2) as [string, string, string, string];
client.setConfig({baseUrl: url as 'http://127.0.0.1:8850', headers: {Authorization: `Bearer ${token}`}});
const domain = (await addDomain({path: {tenant}, body: {name: 'typescript.example'}, throwOnError: true})).data;
const body = JSON.parse(rows) as NewEvent[];
const loaded = (await loadEvents({path: {tenant}, body, throwOnError: true})).data;
const recipients: string[] = [];
let cursor: string | undefined;
do {
  const page = (await listEvents({path: {tenant}, query: {limit: 2, cursor}, throwOnError: true})).data;
  recipients.push(...page.items.map((event) => event.recipient));
  cursor = page.next ?? undefined;
} while (cursor);
const refused = await getDomain({path: {tenant, name: 'nowhere.example'}});
const problem: Problem = refused.error!;
console.log(JSON.stringify([domain.name, loaded.stored, recipients.sort(), problem.status, problem.remedy]));
}
void main();
"""


def rows(domain: str) -> list[dict[str, Any]]:
    return [
        {"kind": "delivered", "time": "2026-11-20T08:00:00Z", "domain": domain, "recipient": f"p{at}@tidepost.example",
         "message_id": f"m{at}"}
        for at in range(3)
    ]  # fmt: skip


def run(*command: str, cwd: Path, **environment: str) -> str:
    done = subprocess.run(
        command, cwd=cwd, env={**os.environ, **environment}, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def check(printed: str, name: str) -> None:
    domain, stored, recipients, status, remedy = json.loads(printed)
    assert (domain, stored, status) == (name, 3, 404)
    assert recipients == [f"p{at}@tidepost.example" for at in range(3)]
    assert name in remedy, "the problem names what there is"


def test_a_python_client_works(office: Office, tmp_path: Path) -> None:
    config = tmp_path / "config.json"
    config.write_text(json.dumps(PYTHON_CONFIG))
    generator = Path(sys.executable).parent / "openapi-python-client"
    said = run(
        str(generator), "generate", "--path", str(CONSOLE / "src" / "api" / "openapi.json"),
        "--output-path", str(tmp_path / "made"), "--config", str(config), "--meta", "none", "--fail-on-warning",
        cwd=tmp_path, PATH=f"{generator.parent}:{os.environ['PATH']}",
    )  # fmt: skip
    assert "not be generated" not in said
    (tmp_path / "made").rename(tmp_path / "rust_gauge_client")
    (tmp_path / "program.py").write_text(PYTHON_PROGRAM)
    arguments = (office.world.url, office.token, office.slug, json.dumps(rows("python.example")))
    check(run(sys.executable, "program.py", *arguments, cwd=tmp_path), "python.example")


def test_a_typescript_client_works(office: Office, tmp_path: Path) -> None:
    (tmp_path / "node_modules").symlink_to(CONSOLE / "node_modules")
    (tmp_path / "package.json").write_text('{"type": "commonjs"}')
    (tmp_path / "program.ts").write_text(TYPESCRIPT_PROGRAM)
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    node = shutil.which("node", path=path) or "node"
    tools = tmp_path / "node_modules"
    run(
        node, str(tools / "@hey-api" / "openapi-ts" / "bin" / "run.js"),
        "-i", str(CONSOLE / "src" / "api" / "openapi.json"), "-o", str(tmp_path / "client"), cwd=tmp_path, PATH=path,
    )  # fmt: skip
    run(
        node, str(tools / "typescript" / "bin" / "tsc"), "--strict", "--target", "es2022", "--lib", "es2022,dom,dom.iterable",
        "--module", "commonjs", "--moduleResolution", "node10", "--skipLibCheck", "--outDir", "made", "program.ts",
        cwd=tmp_path, PATH=path,
    )  # fmt: skip
    arguments = (office.world.url, office.token, office.slug, json.dumps(rows("typescript.example")))
    check(run(node, "made/program.js", *arguments, cwd=tmp_path, PATH=path), "typescript.example")

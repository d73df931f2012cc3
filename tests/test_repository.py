"""What the files of the repository promise: locks without hosts, links that lead somewhere, names that are ours."""

import ast
import json
import re
import subprocess
import sys
from graphlib import TopologicalSorter
from pathlib import Path

import grimp
import pytest

ROOT = Path(__file__).resolve().parent.parent


@pytest.fixture(scope="module")
def files() -> list[Path]:
    listed = subprocess.run(["git", "-C", str(ROOT), "ls-files", "-z"], capture_output=True, check=True).stdout
    return [ROOT / name for name in listed.decode().split("\0") if name]


@pytest.mark.parametrize("lock", ["base", "build", "dev", "node"])
def test_every_python_package_is_pinned_with_hashes_and_without_a_host(lock: str) -> None:
    text = (ROOT / "requirements" / f"{lock}.txt").read_text()
    assert "://" not in text
    assert "--index-url" not in re.sub(r"#.*", "", text)
    packages = re.split(r"\n(?=[A-Za-z])", re.sub(r"(?m)^#.*\n", "", text).strip())
    assert packages
    for package in packages:
        assert re.match(r"[A-Za-z0-9_.\-]+==\S+ \\\n\s+--hash=sha256:[0-9a-f]{64}", package), package[:60]


def test_the_lock_of_the_console_names_no_host() -> None:
    lock = json.loads((ROOT / "console" / "package-lock.json").read_text())
    for name, package in lock["packages"].items():
        assert "resolved" not in package, name
        assert not name or "integrity" in package, name


def test_every_direct_dependency_is_in_the_lock() -> None:
    import tomllib

    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    names = {re.split(r"[><=\[]", row)[0].lower() for row in project["dependencies"]}
    locked = {line.split("==")[0].lower() for line in (ROOT / "requirements" / "base.txt").read_text().splitlines()}
    assert names <= locked


def test_every_link_of_a_document_leads_to_a_file(files: list[Path]) -> None:
    for path in files:
        if path.suffix != ".md":
            continue
        for target in re.findall(r"\]\(([^)#\s]+)", path.read_text()):
            if "://" not in target:
                assert (path.parent / target).exists(), f"{path.name} links to {target}"


def test_there_are_few_pictures_and_each_is_linked(files: list[Path]) -> None:
    readme = (ROOT / "README.md").read_text()
    pictures = [path for path in files if path.suffix == ".png"]
    of_days = [path for path in pictures if path.parent.name == "days"]
    assert 0 < len(pictures) - len(of_days) < 20
    assert all(path.name in readme for path in pictures if path not in of_days)
    assert all(path.name in path.with_suffix(".md").read_text() for path in of_days)


def test_sample_domains_are_made_up(files: list[Path]) -> None:
    """Only .example and .test names: a mail address in a file that belongs to somebody real would be mailed one day."""
    address = re.compile(r"[\w.+-]+@((?:[a-z0-9-]+\.)+[a-z]{2,})\b")
    for path in files:
        if path.suffix not in (".py", ".ts", ".tsx", ".md", ".toml") or path == Path(__file__):
            continue
        for host in address.findall(path.read_text()):
            assert host.endswith((".example", ".test", ".x")), f"{path.name}: {host}"


def test_arrows_point_downwards_only() -> None:
    """The layers of docs/architecture.md, as pyproject.toml states them."""
    command = Path(sys.executable).with_name("lint-imports")
    done = subprocess.run([command, "--no-cache"], cwd=ROOT, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


def test_no_module_imports_itself_by_way_of_others() -> None:
    graph = grimp.build_graph("rust_gauge")
    order = TopologicalSorter({name: graph.find_modules_directly_imported_by(name) for name in graph.modules})
    order.prepare()  # CycleError names the modules


def test_no_function_takes_both_a_context_and_a_connection() -> None:
    """What runs inside a transaction has one unit of work, from which nothing outside can be reached."""
    both = []
    for path in (ROOT / "src/rust_gauge/service").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                arguments = [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]
                kinds = {ast.unparse(argument.annotation) for argument in arguments if argument.annotation is not None}
                if {"Context", "Connection"} <= kinds:
                    both.append(f"{path.name}: {node.name}")
    assert both == []


def test_sql_is_written_in_the_store_alone() -> None:
    words = re.compile(r"\b(SELECT .+ FROM|INSERT INTO|UPDATE \w+ SET|DELETE FROM|LOAD DATA|GET_LOCK)\b")
    for path in (ROOT / "src/rust_gauge").rglob("*.py"):
        inside = path.relative_to(ROOT / "src/rust_gauge").parts[0]
        if inside not in ("store", "launch"):  # launch makes the database itself
            code = re.sub(r'""".*?"""|#.*', "", path.read_text("utf-8"), flags=re.DOTALL)
            assert not words.search(code), path

"""The rooms of the house and the arrows between them (docs/architecture.md)."""

from __future__ import annotations

import ast
import re
import runpy
from functools import cache
from pathlib import Path

import pytest

import zentrale

ROOT = Path(zentrale.__file__).parent
GROUND = {"errors", "findings", "quantities", "silence", "subjects", "words"}
BELOW: dict[str, set[str]] = {
    "cli": {"jobs", "field", "planning", "logbook", "output", "protocols", "site", "simulation"},
    "jobs": {"field", "planning", "logbook", "output", "protocols", "site"},
    "field": {"protocols", "site"},
    "planning": {"site"},
    "logbook": {"protocols", "site"},
    "output": {"planning", "protocols", "site"},
    "simulation": {"protocols", "site"},
    "protocols": set(),
    "site": set(),
    "findings": set(),
    "errors": set(),
    "quantities": set(),
    "silence": set(),
    "subjects": set(),
    "words": set(),
}


@cache
def modules() -> list[tuple[str, str, ast.Module]]:
    """Room, dotted name and syntax tree of every module in a room."""
    found = []
    for path in ROOT.rglob("*.py"):
        parts = path.relative_to(ROOT).with_suffix("").parts
        if parts[0] not in ("__init__", "__main__"):
            name = ".".join(("zentrale", *parts)).removesuffix(".__init__")
            found.append((parts[0], name, ast.parse(path.read_text())))
    return found


tool = runpy.run_path(str(Path(__file__).parent.parent / "tools" / "rooms.py"))


@cache
def imports(tree: ast.Module) -> list[str]:
    return list(tool["imports"](tree))


_WORK = {"known", "switches", "passwords", "finders", "streams", "recorders", "steps", "checks", "discovery"}
# By each room within another one those that it may stand on; "" are the modules beside them.
WITHIN: dict[str, dict[str, set[str]]] = {
    "jobs": {
        "known": set(),
        "switches": {"known"},
        "passwords": {"known"},
        "finders": {"known"},
        "streams": {"known", "passwords"},
        "recorders": {"known", "passwords"},
        "steps": {"known", "passwords", "streams"},
        "checks": {"known", "passwords", "streams", "recorders"},
        "discovery": _WORK - {"discovery"},
        "diagnosing": {"known", "passwords", "recorders", "streams", "checks", "discovery"},
        "registration": _WORK,
        "maintaining": {*_WORK, "registration"},
        "recordings": _WORK,
        "wire": set(),
        "parts": set(),
        "network": set(),
        "walls": {"known", "passwords", "streams", "checks", "discovery"},
        "": {*_WORK, "registration", "maintaining", "recordings", "parts", "network", "walls"},
    },
    "planning": {"": {"placing", "walls"}, "placing": {""}, "by_hand": {""}, "walls": {""}},
}


@pytest.mark.parametrize("parent", WITHIN)
def test_arrows_run_down_within_a_room(parent: str) -> None:
    found: dict[str, set[str]] = tool["arrows"](parent)
    assert set(found) == set(WITHIN[parent]), "each room has its line"
    assert {room: below - WITHIN[parent][room] for room, below in found.items() if below - WITHIN[parent][room]} == {}


def test_the_table_of_rooms_is_drawn_from_what_stands() -> None:
    page = (Path(__file__).parent.parent / "docs" / "architecture.md").read_text(encoding="utf-8")
    told = [row.rpartition("|")[0].rpartition("|")[0] for row in page.splitlines()]
    for row in tool["table"]().splitlines():
        assert row.rpartition("|")[0].rpartition("|")[0] in told, "run python tools/rooms.py"


def test_arrows_run_down_only() -> None:
    wrong = []
    for room, name, tree in modules():
        for target in imports(tree):
            parts = target.split(".")
            inside = parts[0] == "zentrale" and len(parts) > 1 and parts[1] in BELOW
            if inside and parts[1] not in BELOW[room] | GROUND | {room}:
                wrong.append(f"{name} imports {target}")
    assert not wrong


def test_there_are_no_circles() -> None:
    trees = {name: tree for _, name, tree in modules()}
    graph = {name: {t for t in imports(tree) if t in trees and t != name} for name, tree in trees.items()}
    done: set[str] = set()

    def visit(name: str, path: tuple[str, ...]) -> None:
        assert name not in path, " -> ".join((*path, name))
        if name not in done:
            for target in graph[name]:
                visit(target, (*path, name))
            done.add(name)

    for name in graph:
        visit(name, ())


def test_only_the_command_line_prints_and_asks() -> None:
    for room, name, tree in modules():
        calls = {n.func.id for n in ast.walk(tree) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)}
        assert room == "cli" or not calls & {"print", "input"}, name
        assert room == "cli" or not {"argparse", "getpass", "rich"} & {t.split(".")[0] for t in imports(tree)}, name


def test_protocols_and_planning_touch_neither_sockets_nor_clocks() -> None:
    forbidden = {"socket", "asyncio", "time", "random", "secrets", "sqlite3", "pathlib", "os", "threading", "httpcore"}
    for room, name, tree in modules():
        if room in ("protocols", "planning"):
            assert not forbidden & {t.split(".")[0] for t in imports(tree)}, name


def test_files_and_functions_fit_in_a_head() -> None:
    for path in ROOT.rglob("*.py"):
        assert len(path.read_text().splitlines()) <= 400, path
    for _, name, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and node.end_lineno:
                assert node.end_lineno - node.lineno <= 80, f"{name}.{node.name}"


def test_every_error_stands_in_the_one_tree() -> None:
    found = [
        name
        for _, name, tree in modules()
        for node in ast.walk(tree)
        if isinstance(node, ast.ClassDef) and any(re.search("(Error|Exception)$", ast.unparse(b)) for b in node.bases)
    ]
    assert set(found) == {"zentrale.errors"} and len(found) > 20

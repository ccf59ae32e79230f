"""The rooms of the house and the arrows between them (docs/architecture.md)."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import zentrale

ROOT = Path(zentrale.__file__).parent
GROUND = {"errors", "findings", "quantities", "subjects", "words"}
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
    "subjects": set(),
    "words": set(),
}


def modules() -> Iterator[tuple[str, str, ast.Module]]:
    """Room, dotted name and syntax tree of every module in a room."""
    for path in ROOT.rglob("*.py"):
        parts = path.relative_to(ROOT).with_suffix("").parts
        if parts[0] not in ("__init__", "__main__"):
            name = ".".join(("zentrale", *parts)).removesuffix(".__init__")
            yield parts[0], name, ast.parse(path.read_text())


def imports(tree: ast.Module) -> Iterator[str]:
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
            yield from (f"{node.module}.{alias.name}" for alias in node.names)


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

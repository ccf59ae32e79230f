"""What changes between two states of a plan: another folder, or a revision of this one under git."""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import zip_longest
from pathlib import Path

from zentrale import quantities
from zentrale.errors import InputError, PlanError
from zentrale.findings import Finding, worst_first
from zentrale.jobs.parts.part import Fact
from zentrale.jobs.planning import Calculation
from zentrale.site.folder import OPTIONAL_FILES, PLAN_FILES, SiteFolder
from zentrale.site.model import Camera, Plan
from zentrale.site.reading import read_plan

_GIT_S = 30.0
_ROUNDING = 1e-3  # numbers nearer to one another than this share are the same


@dataclass(frozen=True)
class Change:
    """`before` empty: it is new; `after` empty: it is gone."""

    about: str
    subject: str
    before: str
    after: str


@dataclass(frozen=True)
class Comparison:
    """Changes in the order of the plan's parts; findings by code and subject."""

    changes: tuple[Change, ...]
    new: tuple[Finding, ...]
    gone: tuple[Finding, ...]
    other: tuple[tuple[Finding, Finding], ...]  # the same with another measurement: before, after


@contextmanager
def old_site(folder: SiteFolder, against: str) -> Iterator[SiteFolder]:
    """The site as it was. Raises InputError where `against` is neither a site folder nor a revision."""
    path = Path(against)
    if (path / "site.toml").is_file():
        yield SiteFolder(path.resolve())
        return
    if path.is_dir():
        raise InputError(f"--against {against}: no site.toml there", "give a site folder, or a revision under git")
    with tempfile.TemporaryDirectory(prefix="zentrale-against-") as name:
        for file in (*PLAN_FILES, *OPTIONAL_FILES):
            content = _as_of(folder, against, file)
            if content is not None:
                (Path(name) / file).write_bytes(content)
        yield SiteFolder(Path(name))


def _as_of(folder: SiteFolder, revision: str, file: str) -> bytes | None:
    """A plan file as that revision has it; None where it has none and need not."""
    commit = _git(folder, "rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}")
    if commit is None:
        raise InputError(
            f"--against {revision}: neither a site folder nor a revision of this site under git",
            "give the path of a folder with a site.toml, or a revision such as HEAD~1 or a tag",
        )
    content = _git(folder, "cat-file", "blob", f"{commit.decode().strip()}:./{file}")
    if content is None and file in PLAN_FILES:
        raise InputError(
            f"--against {revision}: that revision has no {file} here", "give one in which the site was there"
        )
    return content


def _git(folder: SiteFolder, *arguments: str) -> bytes | None:
    try:
        done = subprocess.run(
            ["git", "-C", str(folder.path), *arguments], capture_output=True, timeout=_GIT_S, stdin=subprocess.DEVNULL
        )
    except (FileNotFoundError, PermissionError):
        raise InputError(
            "--against: git is not installed, so that only folders can be compared",
            "install git, or give the path of an older copy of the site folder",
        ) from None
    except subprocess.TimeoutExpired:
        raise InputError("--against: git did not answer", "give the path of an older copy of the folder") from None
    return done.stdout if done.returncode == 0 else None


def read_old(former: SiteFolder, against: str) -> Plan:
    """The plan as it was. Raises PlanError, each problem with where the plan came from."""
    try:
        return read_plan(former)
    except PlanError as error:
        raise PlanError([f"{against}: {problem}" for problem in error.problems]) from None


def compare(old: Calculation, new: Calculation) -> Comparison:
    """`old` and `new` are of the same parts."""
    changes = [*_cameras(old.plan, new.plan), *_facts(old.facts(), new.facts())]
    before, after = _by_key(old.findings), _by_key(new.findings)
    pairs = [pair for key in {**before, **after} for pair in zip_longest(before.get(key, []), after.get(key, []))]
    return Comparison(
        tuple(changes),
        tuple(worst_first(now for was, now in pairs if was is None)),
        tuple(worst_first(was for was, now in pairs if now is None)),
        tuple((was, now) for was, now in pairs if was and now and was.measured != now.measured),
    )


def _by_key(findings: Sequence[Finding]) -> dict[tuple[str, str], list[Finding]]:
    """One subject may have several of one code."""
    found: dict[tuple[str, str], list[Finding]] = {}
    for item in findings:
        found.setdefault((item.code, item.subject), []).append(item)
    return found


def _facts(old: Sequence[Fact], new: Sequence[Fact]) -> Iterator[Change]:
    before = {(f.about, f.subject): f for f in old}
    after = {(f.about, f.subject): f for f in new}
    abouts = list(dict.fromkeys(about for about, _ in (*after, *before)))
    for about in abouts:
        for key in dict.fromkeys(k for k in (*before, *after) if k[0] == about):
            was, now = before.get(key), after.get(key)
            if was is None or now is None or not _same(was, now):
                yield Change(*key, was.text if was else "", now.text if now else "")


def _same(a: Fact, b: Fact) -> bool:
    if a.number is None or b.number is None:
        return a.text == b.text
    return abs(a.number - b.number) <= _ROUNDING * max(abs(a.number), abs(b.number)) or a.text == b.text


# What a row of the schedule says of a camera, as people ask for it. Ports, addresses and groups are told by the parts.
_ASPECTS: dict[str, Callable[[Camera], str]] = {
    "type": lambda c: c.type,
    "group": lambda c: c.group,
    "zone": lambda c: c.zone,
    "run": lambda c: "open" if c.run_length_m is None else f"{c.run_length_m:g} m",
    "switch port": lambda c: _port(c),
    "MAC address": lambda c: c.mac or "none",
    "recorder channel": lambda c: f"{c.recorder} channel {c.channel}",
    "supply": lambda c: c.supply or "as its type",
    "priority": lambda c: c.priority.value,
    "direction": lambda c: "-" if c.heading_deg is None else f"{c.heading_deg:g}°, {c.tilt_deg or 0:g}° down",
    "place": lambda c: "-" if c.x_m is None or c.y_m is None else f"{c.x_m:g} m east, {c.y_m:g} m north",
}


def _cameras(old: Plan, new: Plan) -> Iterator[Change]:
    before, after = {c.name: c for c in old.cameras}, {c.name: c for c in new.cameras}
    renamed = _renamed(before, after)
    for was, now in renamed.items():
        yield Change("camera", now, f"was called {was}", "renamed")
    for name in [n for n in before if n not in after and n not in renamed]:
        yield Change("camera", name, _said(before[name]), "")
    for name in [n for n in after if n not in before and n not in renamed.values()]:
        yield Change("camera", name, "", _said(after[name]))
    for name, camera in after.items():
        former = next((before[o] for o, n in renamed.items() if n == name), before.get(name))
        if former is None:
            continue
        for aspect, of in _ASPECTS.items():
            if of(former) != of(camera):
                yield Change(f"camera, {aspect}", name, of(former), of(camera))


def _renamed(before: Mapping[str, Camera], after: Mapping[str, Camera]) -> dict[str, str]:
    """Rows of another name that are the same camera: by MAC address, else by recorder, channel and type."""
    left = [c for n, c in after.items() if n not in before]
    found: dict[str, str] = {}
    for name, camera in before.items():
        if name in after:
            continue
        same = next((c for c in left if (camera.mac and c.mac == camera.mac) or _seat(c) == _seat(camera)), None)
        if same is not None:
            left.remove(same)
            found[name] = same.name
    return found


def _port(camera: Camera) -> str:
    return f"{camera.switch}:{camera.port}" if camera.port else camera.place


def _seat(camera: Camera) -> tuple[str, int, str]:
    return camera.recorder, camera.channel, camera.type


def _said(camera: Camera) -> str:
    return f"{camera.type} at {_port(camera)}, {camera.recorder} channel {camera.channel}"


def summary(comparison: Comparison) -> str:
    """In one line."""
    if not comparison.changes and not comparison.new and not comparison.gone and not comparison.other:
        return "nothing changes"
    cameras = {c.subject for c in comparison.changes if c.about.startswith("camera")}
    words = [quantities.count(len(comparison.changes), "change"), f"{quantities.count(len(cameras), 'camera')} touched"]
    words += [f"{quantities.count(len(comparison.new), 'finding')} more"] if comparison.new else []
    words += [f"{quantities.count(len(comparison.gone), 'finding')} gone"] if comparison.gone else []
    return ", ".join(words)

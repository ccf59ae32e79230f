"""Stream addresses from a capture into types.toml: of types that speak no ONVIF, whose streams nobody else tells."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from zentrale.errors import InputError
from zentrale.jobs.wire.telling import AddressRow
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Plan
from zentrale.site.toml_lines import toml_string
from zentrale.words import MASK

_HEAD = re.compile(r"\s*\[\[?\s*([A-Za-z0-9_.-]+)\s*\]\]?")
_NAME = re.compile(r"""\s*name\s*=\s*(["'])(.*?)\1""")


@dataclass(frozen=True)
class Entry:
    """One key of a type. `before` is empty where it had none; `why_not` says why it is told only."""

    type: str
    key: str
    path: str
    before: str
    camera: str
    why_not: str = ""


def entries(plan: Plan, rows: Sequence[AddressRow]) -> list[Entry]:
    """What the addresses that work say of the types of planned cameras; each key once, as it was seen first."""
    found: dict[tuple[str, str], Entry] = {}
    cameras = {c.name: c for c in plan.cameras}
    for row in rows:
        camera = cameras.get(row.device)
        if camera is None or not row.works or row.stream not in ("main", "sub"):
            continue
        kind, key = plan.camera_type(camera), f"{row.stream}_path"
        parts = urlsplit(row.asked.url)
        path = parts.path + (f"?{parts.query}" if parts.query else "")
        known = found.get((kind.name, key))
        why = "" if not kind.onvif else "its type speaks ONVIF, which tells its addresses itself"
        if f"={MASK}" in path:
            why = "a password is within it, and no file of the site holds one"
        if known is not None and known.path != path:
            why = f"{known.camera} of the same type has {known.path}"
        if known is None or why:
            found.setdefault((kind.name, key), Entry(kind.name, key, path, getattr(kind, key), camera.name, why))
    return list(found.values())


def changes(some: Sequence[Entry]) -> list[Entry]:
    return [e for e in some if not e.why_not and e.path != e.before]


def write(folder: SiteFolder, some: Sequence[Entry]) -> None:
    """Into types.toml, in one piece; comments, order and all other keys stay. Raises InputError."""
    file = folder.types_file
    text = file.read_text(encoding="utf-8")
    for entry in changes(some):
        text = _with_key(text, entry, str(file))
    write_atomically(file, text.encode("utf-8"))


def _with_key(text: str, entry: Entry, file: str) -> str:
    lines = text.splitlines(keepends=True)
    heads = [n for n, line in enumerate(lines) if _HEAD.match(line)]
    for begin, end in zip(heads, [*heads[1:], len(lines)], strict=True):
        head = _HEAD.match(lines[begin])
        own = range(begin + 1, end)
        named = (_NAME.match(lines[n]) for n in own)
        if head is None or head[1] != "camera_types" or entry.type not in {m[2] for m in named if m}:
            continue
        line = f"{entry.key} = {toml_string(entry.path)}"
        at = next((n for n in own if re.match(rf"\s*{entry.key}\s*=", lines[n])), None)
        if at is not None:
            comment = re.search(r"\s+#[^\"']*$", lines[at].rstrip("\n"))
            lines[at] = f"{line}{comment[0] if comment else ''}\n"
            return "".join(lines)
        last = max((n for n in own if lines[n].strip() and not lines[n].lstrip().startswith("#")), default=begin)
        if not lines[last].endswith("\n"):
            lines[last] += "\n"
        lines.insert(last + 1, f"{line}\n")
        return "".join(lines)
    raise InputError(f"{file}: no type {entry.type} as a table of its own", f"enter {entry.key} = {entry.path} by hand")

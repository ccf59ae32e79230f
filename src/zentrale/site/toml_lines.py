"""Where in a TOML file a field stands. `tomllib` forgets lines; a person needs them in an error."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence

_HEADER = re.compile(r"\s*(\[\[?)\s*([A-Za-z0-9_.\-\"' ]+?)\s*\]\]?\s*(#.*)?$")
_KEY = re.compile(r"\s*([A-Za-z0-9_\-]+|\"[^\"]*\")\s*=")


def toml_string(text: str) -> str:
    """As a basic string of TOML: its escapes are those of JSON, and one more."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def line_of(text: str, location: Sequence[str | int]) -> int:
    """The 1-based line of `location`, such as ("switches", 2, "type"): a table, its index in an array of tables,
    a key. Falls back to the nearest enclosing table, then to line 1.
    """
    counts: dict[str, int] = {}
    here: list[str | int] = []
    best, best_depth = 1, 0
    for number, line in enumerate(text.splitlines(), start=1):
        header = _HEADER.match(line)
        if header:
            here = _header_path(header[2], counts, is_array=header[1] == "[[")
            path = here
        else:
            key = _KEY.match(line)
            if not key:
                continue
            path = [*here, key[1].strip('"')]
        depth = _common(path, location)
        if depth > best_depth and depth == len(path):
            best, best_depth = number, depth
    return best


def _header_path(dotted: str, counts: dict[str, int], *, is_array: bool) -> list[str | int]:
    names = [name.strip(" \"'") for name in dotted.split(".")]
    path: list[str | int] = []
    for depth, name in enumerate(names):
        path.append(name)
        joined = ".".join(names[: depth + 1])
        last = depth == len(names) - 1
        if last and is_array:
            counts[joined] = counts.get(joined, -1) + 1
            path.append(counts[joined])
            for inner in [name for name in counts if name.startswith(f"{joined}.")]:
                del counts[inner]  # its own tables are counted anew
        elif joined in counts:
            path.append(counts[joined])
    return path


def _common(path: Sequence[str | int], location: Sequence[str | int]) -> int:
    depth = 0
    for a, b in zip(path, location, strict=False):
        if a != b:
            break
        depth += 1
    return depth

"""Pictures that were taken of cameras, each held against what was written down of it."""

from __future__ import annotations

import hashlib

from zentrale.logbook.evidence import Observation
from zentrale.site.folder import SiteFolder


def kept_picture(folder: SiteFolder, seen: Observation) -> bytes | None:
    """The picture of that observation, and no other that lies in its place."""
    try:
        picture = (folder.output / "pictures" / seen.content["file"]).read_bytes()
    except OSError:
        return None
    return picture if hashlib.sha256(picture).hexdigest() == seen.content["sha256"] else None

"""The evidence of a diagnosis, packed for somebody elsewhere: what was seen, the plan, this machine. Never a password."""

from __future__ import annotations

import io
import json
import platform
import zipfile
from collections.abc import Iterator, Mapping
from pathlib import Path

from zentrale import __version__
from zentrale.errors import StorageError
from zentrale.field import neighbours
from zentrale.field.adapters import list_adapters
from zentrale.jobs.diagnosing.diagnosis_run import Diagnoses
from zentrale.logbook.vault_contents import Contents
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.words import clean_lines

_LEAST = 4  # characters: shorter ones stand in any text


def pack(
    path: Path, folder: SiteFolder, contents: Contents | None, result: Diagnoses, document: Mapping[str, object]
) -> None:
    """Writes a zip file that only its owner reads. Raises StorageError where it cannot be written; nothing is half-written."""
    secrets = sorted(contents.secrets, key=len, reverse=True) if contents is not None else []
    archive = io.BytesIO()
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, data in _parts(folder, result, document):
            packed.writestr(name, _without(data, secrets))
        for device in result.devices:
            picture = folder.output / "pictures" / f"{device.name}-main.jpg"
            if picture.exists():
                packed.write(picture, f"pictures/{picture.name}")
    try:
        write_atomically(path, archive.getvalue(), mode=0o600)
    except OSError as error:
        raise StorageError(f"{path}: cannot be written: {error.strerror or error}", "give another place") from None


def _parts(folder: SiteFolder, result: Diagnoses, document: Mapping[str, object]) -> Iterator[tuple[str, str]]:
    yield "diagnosis.json", clean_lines(json.dumps(document, indent=2, ensure_ascii=False))
    yield "diagnosis.txt", clean_lines("\n\n".join(d.phone for d in result.devices) + "\n")
    table, nobody = neighbours.asked()
    machine = {
        "zentrale": __version__, "python": platform.python_version(), "system": platform.platform(), "host": result.vantage,
        "adapters": [str(a) for a in list_adapters()], "neighbours": table, "nobody_answers_at": sorted(nobody),
    }  # fmt: skip
    yield "machine.json", json.dumps(machine, indent=2)
    for file in (folder.site_file, folder.cameras_file, folder.types_file):
        if file.exists():
            yield f"plan/{file.name}", file.read_text(encoding="utf-8", errors="replace")


def _without(text: str, secrets: list[str]) -> str:
    for secret in secrets:
        if len(secret) >= _LEAST:
            text = text.replace(secret, "(a password)")
    return text

"""Reports of defects of this program: written to a file for whoever mends it, without any secret, never to the terminal."""

from __future__ import annotations

import os
import platform
import sys
import tempfile
from collections.abc import Iterable
from pathlib import Path

from zentrale import __version__, quantities
from zentrale.errors import ZentraleError
from zentrale.protocols.http_auth import without_userinfo
from zentrale.site.folder import find_site, write_atomically
from zentrale.words import clean_lines

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.logbook.vault import Vault

_known: set[str] = set()
_vaults: list[Vault] = []
_SHORTEST = 3  # a shorter secret would blot out half the report, and protects nothing


def know(secret: str) -> None:
    """A secret of this run: it is blotted out of every report."""
    _known.add(secret)


def know_vault(vault: Vault) -> None:
    """A vault whose passwords, as they are when the report is written, are blotted out."""
    _vaults.append(vault)


def write_report(reports: Iterable[str], site: str | None) -> Path | None:
    """The path of the report, in the site's output folder or a temporary one; None where neither can be written."""
    argv = " ".join(sys.argv[1:])
    head = [
        f"zentrale {__version__}, Python {platform.python_version()}, {platform.platform()}",
        f"at {quantities.timestamp(quantities.now())}", f"command: zentrale {argv}", "",
    ]  # fmt: skip
    text = _without_secrets("\n".join([*head, *reports]))
    name = f"defect-{quantities.now().astimezone():%Y%m%d-%H%M%S}-{os.getpid()}.txt"
    for folder in _folders(site):
        try:
            write_atomically(folder / name, text.encode("utf-8", "replace"), mode=0o600)
        except ZentraleError:
            continue  # the next folder is tried; where none can be written, that is told
        return folder / name
    return None


def _folders(site: str | None) -> list[Path]:
    try:
        return [find_site(site).output / "reports", Path(tempfile.gettempdir())]
    except (ZentraleError, OSError):
        return [Path(tempfile.gettempdir())]


def _without_secrets(text: str) -> str:
    secrets = set(_known)
    for vault in _vaults:
        try:
            secrets |= vault.contents.secrets
        except ZentraleError:
            continue  # its passphrase was changed meanwhile; what this run typed is known all the same
    for secret in sorted(secrets, key=len, reverse=True):
        if len(secret) >= _SHORTEST:
            text = text.replace(secret, "[secret]")
    return clean_lines(without_userinfo(text))

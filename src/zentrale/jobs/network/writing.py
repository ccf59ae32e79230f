"""`network write`: the plan's network as files in output/network/, and what changed since they were written last."""

from __future__ import annotations

import csv
import difflib
import hashlib
import io
import re
import stat
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from zentrale.errors import InputError
from zentrale.findings import Finding
from zentrale.logbook.made_passwords import generate_password
from zentrale.logbook.vault import Vault
from zentrale.output.network import access, linux
from zentrale.output.network.registry import NetworkFile, network_files
from zentrale.output.network.yang import LEFT_OUT, STATELESS
from zentrale.planning.network import NetworkPlan
from zentrale.protocols.http_auth import Credentials
from zentrale.site.folder import SiteFolder, cannot_read, write_atomically

FOLDER = "network"
INDEX = "index.csv"  # what was written: only what stands in it is ever removed again
NEW, CHANGED, SAME, GONE = "new", "changed", "as before", "removed"
SECRETS_ENTRY = "802.1X"  # of the vault's accounts: that is what these passwords are for
_SECRET_MODE = stat.S_IRUSR | stat.S_IWUSR
# What tells only when it was written.
_WHEN = re.compile(rb'"timestamp": "[^"]*"|\d{4}-\d\d-\d\d( \d\d:\d\d [A-Z]+)?')
_BINARY = (".html",)


@dataclass(frozen=True)
class Written:
    """One file: its state, and the lines that differ, each with + or - before it."""

    path: str
    what: str
    state: str
    lines: tuple[str, ...] = ()


@dataclass(frozen=True)
class NetworkFiles:
    """`left_out`: what the plan holds and no file says."""

    folder: Path
    files: tuple[Written, ...]
    findings: tuple[Finding, ...]
    left_out: tuple[str, ...]

    def count(self, state: str) -> int:
        return sum(f.state == state for f in self.files)


def write_network(folder: SiteFolder, net: NetworkPlan, *, dry_run: bool) -> NetworkFiles:
    """Raises StorageError, InputError where a file that is there cannot be read. Files that nobody else made go with the plan
    that they came from.
    """
    at = folder.output / FOLDER
    made = list(network_files(net))
    before = _index(at)
    told = []
    for file in made:
        old = _content(at / file.path)
        told.append(_compared(file, old))
        if not dry_run and told[-1].state != SAME:
            write_atomically(at / file.path, file.content)
    here = {file.path for file in made}
    for path, what in before.items():
        if path not in here and _content(at / path) is not None:
            told.append(Written(path, what, GONE))
            if not dry_run:
                (at / path).unlink()
    if not dry_run:
        write_atomically(at / INDEX, _index_text(made))
    findings = (*net.ports.findings, *net.reach.findings, *net.addresses.findings, *net.multicast.findings)
    return NetworkFiles(at, tuple(told), findings, tuple(_left_out(net)))


def _content(path: Path) -> bytes | None:
    try:
        return path.read_bytes()
    except (FileNotFoundError, NotADirectoryError):
        return None
    except OSError as error:
        raise cannot_read(path, error) from None


def _compared(file: NetworkFile, old: bytes | None) -> Written:
    if old is None:
        return Written(file.path, file.what, NEW)
    if _WHEN.sub(b"", old) == _WHEN.sub(b"", file.content):
        return Written(file.path, file.what, SAME)
    lines: tuple[str, ...] = ()
    if not file.path.endswith(_BINARY):
        a, b = (text.decode("utf-8-sig", "replace").splitlines() for text in (old, file.content))
        lines = tuple(x for x in difflib.ndiff(a, b) if x[:1] in "+-")
    return Written(file.path, file.what, CHANGED, lines)


def _index(at: Path) -> dict[str, str]:
    """Path and kind of each file that was written before; paths that lead out of the folder are none of ours."""
    text = _content(at / INDEX)
    if text is None:
        return {}
    rows = csv.DictReader(io.StringIO(text.decode("utf-8-sig", "replace")))
    told = {row.get("path") or "": row.get("what") or "" for row in rows}
    return {path: what for path, what in told.items() if path and (at / path).resolve().is_relative_to(at.resolve())}


def _index_text(made: Sequence[NetworkFile]) -> bytes:
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(["path", "what", "sha256"])
    writer.writerows([f.path, f.what, hashlib.sha256(f.content).hexdigest()] for f in made)
    return text.getvalue().encode("utf-8-sig")


def _left_out(net: NetworkPlan) -> list[str]:
    """What a person has to know of the files."""
    told = [f"YANG instance data without {LEFT_OUT}"]
    if any(s.loop_protection == "ring" for s in net.plan.switches):
        told.append("the ring protocol of the switches: Open vSwitch and Linux have spanning tree in its place")
    apart = [s.name for s in net.plan.switches if len(net.bonds(s.name)) < len(net.bundles(s.name))]
    if apart:
        told.append(f"bundles under spanning tree of {', '.join(apart)} for Open vSwitch: one of their cables carries")
    without: dict[str, list[str]] = {}
    for switch in net.plan.switches:
        without.setdefault(linux.lacks(net, switch), []).append(switch.name)
    told += [f"commands for Linux of {', '.join(some)}: it cannot do {why}" for why, some in without.items() if why]
    if any(s.routes for s in net.plan.switches) and net.routed_zones():
        told.append(STATELESS)
    if net.routed_zones() and net.router() is None:
        told.append("where the router stands: no switch of the plan routes")
    if any(net.is_routed(group) for group in net.multicast.groups):
        told.append("multicast that the router passes from zone to zone: its own multicast routing has to be set")
    if access.accounts(net):
        told.append("passwords of 802.1X accounts: `--with-secrets FILE` writes them, outside of the site folder")
    return told


def write_secrets(folder: SiteFolder, net: NetworkPlan, vault: Vault, file: Path) -> int:
    """The RADIUS users with their passwords, for the file's owner alone; made where the vault has none. Returns how many.

    Raises InputError for a place within the site folder, or where the plan needs none; StorageError.
    """
    names = access.accounts(net)
    if not names:
        raise InputError(
            "--with-secrets: no port of the plan lets in by 802.1X", "set policy.authentication, or leave it out"
        )
    if file.resolve().is_relative_to(folder.path.resolve()):
        raise InputError(
            f"--with-secrets {file}: lies in the site folder", "give a place outside of it: the folder is passed on"
        )
    secrets = {}
    for name in names:
        held = vault.account(SECRETS_ENTRY, name)
        if held is None:
            held = Credentials(name, generate_password(net.plan.policy.password_length))
            vault.set_account(SECRETS_ENTRY, held)
        secrets[name] = held.password
    write_atomically(file, access.users(net, secrets).encode(), _SECRET_MODE)
    return len(names)

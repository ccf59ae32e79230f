"""`network write`: the plan's network as files in output/network/, and what changed since they were written last."""

from __future__ import annotations

import csv
import difflib
import hashlib
import io
import itertools
import re
import stat
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from zentrale import quantities
from zentrale.errors import InputError
from zentrale.findings import Finding
from zentrale.jobs.network.laptop import remembered
from zentrale.logbook.made_passwords import generate_password
from zentrale.logbook.vault import Vault
from zentrale.output.network import access, linux
from zentrale.output.network.registry import NetworkFile, network_files
from zentrale.output.network.yang import LEFT_OUT, STATELESS
from zentrale.planning.by_hand.order import Place
from zentrale.planning.by_hand.settings import SECRET
from zentrale.planning.network import NetworkPlan
from zentrale.planning.resilience import ring_findings
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
    """One file: its state, and the lines that differ, each with + or - before it. `kept_as`: where what somebody had edited in it
    is kept, empty where nobody had.
    """

    path: str
    what: str
    state: str
    lines: tuple[str, ...] = ()
    kept_as: str = ""


@dataclass(frozen=True)
class NetworkFiles:
    """`left_out`: what the plan holds and no file says. `laptop`: where work sheets are typed from, where somebody said so."""

    folder: Path
    files: tuple[Written, ...]
    findings: tuple[Finding, ...]
    left_out: tuple[str, ...]
    laptop: Place | None

    def count(self, state: str) -> int:
        return sum(f.state == state for f in self.files)


def write_network(folder: SiteFolder, net: NetworkPlan, laptop: Place | None = None, *, dry_run: bool) -> NetworkFiles:
    """`laptop`: where work sheets are typed from; as last time where nobody says so.

    Raises StorageError, InputError where a file that is there cannot be read. Files that nobody else made go with the plan
    that they came from; one that somebody has edited since is kept beside the new one.
    """
    at = folder.output / FOLDER
    before = read_index(at)
    laptop = laptop or remembered(net, before.kinds)
    made = list(network_files(net, laptop))
    old = {path: content_of(at / path) for path in dict.fromkeys([*(f.path for f in made), *before.kinds])}
    states = [_compared(file, old[file.path]) for file in made]
    states += [
        Written(path, what, GONE)
        for path, what in before.kinds.items()
        if path not in {f.path for f in made} and old[path] is not None
    ]
    states = [_kept(at, item, old[item.path], before, dry_run=dry_run) for item in states]
    if not dry_run:
        contents = {file.path: file.content for file in made}
        stands = {
            t.path: (t.what, (t.state == SAME and old[t.path]) or contents[t.path]) for t in states if t.state != GONE
        }
        write_atomically(at / INDEX, before.text(stands, with_before=True))  # stopped here, nothing looks edited
        for item in states:
            if item.state in (NEW, CHANGED):
                write_atomically(at / item.path, contents[item.path])
            elif item.state == GONE:
                (at / item.path).unlink(missing_ok=True)
        write_atomically(at / INDEX, before.text(stands))
    findings = (
        *net.ports.findings, *net.reach.findings, *net.addresses.findings, *net.multicast.findings, *ring_findings(net.plan)
    )  # fmt: skip
    return NetworkFiles(at, tuple(states), findings, tuple(_left_out(net)), laptop)


def _kept(at: Path, item: Written, content: bytes | None, before: Index, *, dry_run: bool) -> Written:
    """With what somebody has edited in it put aside: under a name that nothing has yet, and once only."""
    if content is None or item.state == SAME or before.as_written(item.path, content):
        return item
    for number in itertools.count(1):
        name = f"{item.path}.edited" if number == 1 else f"{item.path}.edited.{number}"
        there = content_of(at / name)
        if there is None and not dry_run:
            write_atomically(at / name, content)
        if there in (None, content):
            return replace(item, kept_as=name)
    raise AssertionError


def content_of(path: Path) -> bytes | None:
    try:
        return path.read_bytes()
    except (FileNotFoundError, NotADirectoryError):
        return None
    except OSError as error:
        raise cannot_read(path, error) from None


def _compared(file: NetworkFile, old: bytes | None) -> Written:
    if old is None:
        return Written(file.path, file.what, NEW)
    if same_but_for_the_time(old, file.content):
        return Written(file.path, file.what, SAME)
    lines: tuple[str, ...] = ()
    if not file.path.endswith(_BINARY):
        a, b = (text.decode("utf-8-sig", "replace").splitlines() for text in (old, file.content))
        lines = tuple(x for x in difflib.ndiff(a, b) if x[:1] in "+-")
    return Written(file.path, file.what, CHANGED, lines)


@dataclass(frozen=True)
class Index:
    """What was written before: kind and SHA-256 of each file, by its path; paths that lead out of the folder are none of ours."""

    kinds: dict[str, str]
    digests: dict[str, set[str]]

    def as_written(self, path: str, content: bytes) -> bool:
        """Whether nobody has touched the file since. One that no index names was written by somebody else."""
        return digest(content) in self.digests.get(path, ())

    def text(self, now: Mapping[str, tuple[str, bytes]], *, with_before: bool = False) -> bytes:
        """As a file. `now`: what each is and what stands in it. `with_before`: and all that it named before."""
        rows = [(path, what, digest(content)) for path, (what, content) in now.items()]
        if with_before:
            rows += [(path, self.kinds[path], told) for path, some in self.digests.items() for told in sorted(some)]
        text = io.StringIO()
        writer = csv.writer(text)
        writer.writerow(["path", "what", "sha256"])
        writer.writerows(dict.fromkeys(rows))
        return text.getvalue().encode("utf-8-sig")


def digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def read_index(at: Path) -> Index:
    """Raises InputError where it cannot be read; what is no row of it is passed over."""
    text = content_of(at / INDEX)
    rows = [] if text is None else list(csv.DictReader(io.StringIO(text.decode("utf-8-sig", "replace"))))
    ours = [
        (path, row)
        for row in rows
        if (path := row.get("path") or "") and "\0" not in path and (at / path).resolve().is_relative_to(at.resolve())
    ]
    digests: dict[str, set[str]] = {}
    for path, row in ours:
        digests.setdefault(path, set()).add((row.get("sha256") or "").strip().lower())
    return Index({path: row.get("what") or "" for path, row in ours}, digests)


def same_but_for_the_time(a: bytes, b: bytes) -> bool:
    """Whether two files differ at most in when they were written."""
    return a == b or _WHEN.sub(b"", a) == _WHEN.sub(b"", b)


def _left_out(net: NetworkPlan) -> list[str]:
    """What a person has to know of the files."""
    parts = [f"YANG instance data without {LEFT_OUT}"]
    nowhere = [c.name for c in net.plan.networked_devices if not c.port]
    if nowhere:
        parts.insert(0, f"the switch ports of {quantities.listed(nowhere)}: the plan does not say them yet (OPN-1)")
    if any(s.loop_protection == "ring" for s in net.plan.switches):
        parts.append("the ring protocol of the switches: Open vSwitch and Linux have spanning tree in its place")
    apart = [s.name for s in net.plan.switches if len(net.bonds(s.name)) < len(net.bundles(s.name))]
    if apart:
        parts.append(f"bundles under spanning tree of {', '.join(apart)} for Open vSwitch: one of their cables carries")
    without: dict[str, list[str]] = {}
    for switch in net.plan.switches:
        without.setdefault(linux.lacks(net, switch), []).append(switch.name)
    parts += [f"commands for Linux of {', '.join(some)}: it cannot do {why}" for why, some in without.items() if why]
    if any(s.routes for s in net.plan.switches) and net.routed_zones():
        parts.append(STATELESS)
    if net.routed_zones() and net.router() is None:
        parts.append("where the router stands: no switch of the plan routes")
    if any(net.is_routed(group) for group in net.multicast.groups):
        parts.append("multicast that the router passes from zone to zone: its own multicast routing has to be set")
    if access.accounts(net):
        parts.append("passwords of 802.1X accounts: `--with-secrets FILE` writes them, outside of the site folder")
    if access.asked_for(net):
        parts.append(
            f"the {SECRET} of switches and server: the vault has it after `--with-secrets FILE`, by hand at each switch"
        )
    return parts


def write_secrets(folder: SiteFolder, net: NetworkPlan, vault: Vault, file: Path) -> int:
    """The RADIUS users with their passwords and the secret of the switches, for the file's owner alone; made where the vault has
    none. Returns how many of both.

    Raises InputError for a place within the site folder, or where the plan needs none; StorageError.
    """
    if not access.asked_for(net):
        raise InputError(
            "--with-secrets: no port of the plan asks who comes in", "set policy.authentication, or leave it out"
        )
    if file.resolve().is_relative_to(folder.path.resolve()):
        raise InputError(
            f"--with-secrets {file}: lies in the site folder", "give a place outside of it: the folder is passed on"
        )
    secrets = {}
    for name in (*access.accounts(net), SECRET):
        held = vault.account(SECRETS_ENTRY, name)
        if held is None:
            held = Credentials(name, generate_password(net.plan.policy.password_length))
            vault.set_account(SECRETS_ENTRY, held)
        secrets[name] = held.password
    write_atomically(file, access.users(net, secrets, secrets[SECRET]).encode(), _SECRET_MODE)
    return len(secrets)

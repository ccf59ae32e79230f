"""What a run needs to get into devices: the vault, the ledger of refusals, the pinned certificates, and patience."""

from __future__ import annotations

import asyncio
import hashlib
import secrets
from collections import Counter
from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, field, replace
from datetime import datetime

from zentrale import quantities
from zentrale.errors import CertificateError, ClearTextError, InputError, PassphraseChangedError
from zentrale.field.neighbours import macs_by_address
from zentrale.field.rules import Rules, _Turns
from zentrale.field.sessions import Sessions
from zentrale.jobs.known.planned import planned_devices, whole_devices
from zentrale.logbook.ledger import Patience, RefusalLedger
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.logbook.vault_contents import Contents, DeviceEntry
from zentrale.protocols.http_auth import Credentials
from zentrale.site.identity import Identity
from zentrale.site.model import Camera, Plan, Policy, Recorder
from zentrale.words import meant

_ASK_AGAIN = 3  # times for the vault's new passphrase
_WAIT_SLICE_S = 1.0


@dataclass(frozen=True)
class Manner:
    """How the person at the terminal is spoken with. `ask_passphrase`, `ask` None: there is nobody to ask; `ask` is for
    questions that yes or no answers.
    """

    tell: Callable[[str], None] = lambda text: None
    ask_passphrase: Callable[[], str] | None = None
    ask: Callable[[str], bool] | None = None


@dataclass(frozen=True)
class Key:
    """Credentials to try, and whose they are: `label` never holds a password.

    entry:  the vault's entry that they are of; empty where they are of none
    sent_s: when they were sent [s since 1970], where they were not yet seen to open; else None
    """

    credentials: Credentials
    label: str
    own: bool = False
    factory: bool = False
    entry: str = ""
    sent_s: float | None = None


class Keyring:
    """One run's means of getting in. `dry_run`: nothing is written into the vault, no certificate either.

    same:      devices of which the person says that they are the same, whatever MAC address or serial number is told now
    overwrite: accounts that are there and not in the vault get new passwords unasked
    """

    def __init__(
        self,
        plan: Plan | None,
        vault: Vault | None,
        logbook: Logbook,
        patience: Patience,
        *,
        trusted: Collection[str] = (),
        same: Collection[str] = (),
        overwrite: bool = False,
        manner: Manner | None = None,
        dry_run: bool = False,
    ) -> None:
        self.plan = plan
        self.vault = vault
        self.logbook = logbook
        self.patience = patience
        self.manner = manner or Manner()
        self.dry_run = dry_run
        contents = self.vault.ready() if self.vault is not None and not dry_run else self.contents
        key = contents if contents.key else Contents(key=secrets.token_bytes(32))
        self.ledger = RefusalLedger(logbook, patience, key.fingerprint)
        self.overwrite = overwrite
        self.channels: dict[str, int] = {}  # numbers that cameras on the next free channel were bound to in this run
        self.certificates = PinnedCertificates(vault, self._hosts_of(trusted), keep=not dry_run)
        self._same = self._names_of(same)
        self._answers: dict[str, bool] = {}
        self._shown: dict[str, Identity] = {}
        self._turns = _Turns()
        self._sessions = Sessions()
        self._asking = asyncio.Lock()

    @property
    def contents(self) -> Contents:
        return self.vault.contents if self.vault is not None else Contents()

    def rules(self, planned: Camera | Recorder | None) -> Rules:
        """How to speak with a device that is, as far as is known, `planned`."""
        in_clear = self.plan is not None and planned is not None and self.plan.kind(planned).basic_in_clear
        ports = (planned.http_port, planned.rtsp_port) if isinstance(planned, Camera) else (None, None)
        certificates = replace(self.certificates, name=self.entry_of(planned.name) if planned is not None else "")

        def readable(host: str, credentials: Credentials | None) -> None:
            if planned is not None and not self._is_public(credentials):
                self.check_readable(planned, host)

        return Rules(self.ledger, certificates, in_clear, self._turns, self._sessions, *ports, check_readable=readable)

    # Who is there: asked before anything secret goes out

    def shows(self, host: str, planned: Camera | Recorder | None) -> Identity:
        """What the network tells of who is at `host`: the MAC address that answers for it on our own link. One that answers for
        several addresses is a router's or a bridge's, and one behind a translation is not the device's.
        """
        if isinstance(planned, Camera) and planned.translated:
            return Identity()
        table = macs_by_address()
        mac = table.get(host, "")
        return Identity.of([mac] if mac and Counter(table.values())[mac] == 1 else [])

    def knows(self, name: str) -> bool:
        """Whether anything is known of this device by which another one in its place could be told."""
        entry = self.contents.devices.get(self.entry_of(name))
        planned = whole_devices(self.plan).get(name) if self.plan is not None else None
        return bool(entry and (entry.identity.macs or entry.identity.serial)) or bool(
            planned and _planned_macs(planned)
        )

    @property
    def new_password_s(self) -> float:
        """How long a device may take until it takes a new password [s]."""
        return self.plan.policy.new_password_s if self.plan is not None else Policy().new_password_s

    def ready_at_s(self, name: str, sent_s: float) -> float:
        """When a password that was sent may be tried first [s since 1970]: later at a device that was seen to take its time."""
        entry = self.contents.devices.get(name)
        return sent_s + (min(entry.takes_s + 1.0, self.new_password_s) if entry and entry.takes_s else 0.0)

    def saw(self, host: str, identity: Identity) -> None:
        """What the device at `host` told of itself in this run."""
        if identity.macs:
            self._shown[host] = identity

    def proved(self, name: str, credentials: Credentials, identity: Identity, where: str = "") -> None:
        """These opened the device `name`, which told this of itself, at host and port `where`. Into the vault, where new."""
        if self.vault is None or self.dry_run:
            return
        self.vault.prove(name, credentials, identity)
        if where in self.certificates.seen:
            self.vault.keep_certificate(name, where, self.certificates.seen[where])

    def check_readable(self, planned: Camera | Recorder, host: str) -> None:
        """Raises ClearTextError where nothing tells that the device at `host` is the planned one: what can be read on the way, or
        by whoever sits there, does not go out then.
        """
        if planned.mac or host in self._shown or self.shows(host, planned).macs:
            return
        where = "cameras.csv" if isinstance(planned, Camera) else f"[[recorders]] {planned.name} in site.toml"
        raise ClearTextError(
            "its MAC address is neither planned nor seen, so no password was sent to it that whoever is there could read",
            f"give its MAC address in {where}, or turn HTTPS on in its own page",
        )

    def may_set_new(self, planned: Camera | Recorder, host: str) -> None:
        """Before a new password goes to a device that an own password opened. Raises ClearTextError."""
        if planned.name not in {b.name for b in self.logbook.bindings()}:
            self.check_readable(planned, host)

    def contradiction(self, name: str, now: Identity, before: Identity) -> str:
        """Why the device that shows itself as `now` is not the one whose password the vault has for `name`; empty where nothing
        says so. What it shows now counts before what the last discovery saw of it; an endpoint, which anybody can tell and some
        make anew, says nothing either way.
        """
        now, before = replace(now, endpoint=""), replace(before, endpoint="")
        name = self.entry_of(name)
        entry = self.contents.devices.get(name)
        planned = whole_devices(self.plan).get(name) if self.plan is not None else None
        row = Identity.of(_planned_macs(planned) if planned is not None else [])
        for known, whose in (
            (entry.identity if entry else Identity(), "the vault's password is of"),
            (row, "planned is"),
        ):
            same = known.same_device(now)
            contradicting = now if same is not None else before
            if (known.same_device(before) if same is None else same) is not False:
                continue
            if contradicting.macs and known.macs and not contradicting.macs & known.macs:
                return f"its MAC address is {', '.join(sorted(contradicting.macs))}; {whose} {', '.join(sorted(known.macs))}"
            serials = [s.rpartition("/")[2].upper() for s in (contradicting.serial, known.serial)]
            return f"its serial number is {serials[0]}; {whose} {serials[1]}"
        return ""

    async def may_overwrite(self, name: str, user: str) -> bool:
        """Whether an account that is there, and not in the vault, may get a new password: said by an option, or asked."""
        if self.overwrite or self.manner.ask is None or self.dry_run:
            return self.overwrite
        question = f"{name}: has an account {user} already, whose password is not in the vault. Give it a new password?"
        async with self._asking:
            return await asyncio.to_thread(self.manner.ask, question)

    async def goes_on(self, name: str, host: str, why: str) -> bool:
        """Whether the person takes it for the same device all the same: said by an option, or asked at a terminal, once."""
        if name in self._same:
            return True
        if self.manner.ask is None or self.dry_run:
            return False
        async with self._asking:
            if name not in self._answers:
                question = f"{name}: another device answers at {host}: {why}. Is it {name} all the same?"
                self._answers[name] = await asyncio.to_thread(self.manner.ask, question)
        return self._answers[name]

    def is_same(self, name: str) -> bool:
        """Whether the person has said that it is the same device, whatever it tells."""
        return name in self._same or self._answers.get(name, False)

    def _is_public(self, credentials: Credentials | None) -> bool:
        """Whether it is a maker's default, which everybody knows."""
        return any(c.factory_of and c.credentials == credentials for c in self.contents.candidates)

    def numbered(self, camera: Camera) -> Camera:
        """With the channel that it was bound to in this run, where its row has the next free one."""
        number = self.channels.get(camera.name)
        return camera if number is None else camera.model_copy(update={"channel": number})

    def budget(self, seconds: float) -> float | None:
        """The time for one device; a patient run takes the time it takes."""
        return None if self.patience.patient else seconds

    async def ready(self) -> None:
        """Before a step begins: is the key in hand still that of the vault? Asks for the new passphrase where another
        process has changed it. Raises PassphraseChangedError where nobody can be asked.
        """
        if self.vault is None:
            return
        async with self._asking:
            for _ in range(_ASK_AGAIN):
                try:
                    self.vault.contents  # noqa: B018 - reading it is the question
                    return
                except PassphraseChangedError as error:
                    if self.manner.ask_passphrase is None:
                        raise
                    self.manner.tell(error.what)
                try:
                    self.vault.reopen(await asyncio.to_thread(self.manner.ask_passphrase))
                except InputError as error:
                    self.manner.tell(error.what)
            self.vault.contents  # noqa: B018 - raises what is still wrong

    async def wait(self, who: str, until: datetime) -> None:
        """Wait until a device may be asked again."""
        self.manner.tell(f"{who}: waiting until {quantities.clock_time(until)} before the next passwords are tried")
        while (left := (until - quantities.now()).total_seconds()) > 0:  # noqa: ASYNC110 - by the wall clock
            await asyncio.sleep(min(left, _WAIT_SLICE_S))

    def keys(self, identity: Identity, names: Iterable[str], maker: str, orphans: Iterable[str] = ()) -> list[Key]:
        """What may open a device: its own entries in the vault, by identity and by name, and earlier ones; those of
        devices that were seen nowhere (`orphans`); our candidates; the default of its maker.
        """
        contents = self.contents
        wanted = list(dict.fromkeys([*contents.names_of(identity), *map(self.entry_of, names)]))
        held = [n for n in dict.fromkeys((*wanted, *orphans)) if n in contents.devices and self._fits(n, identity)]
        own = [
            Key(e.credentials, f"vault entry of {n}", own=True, entry=n, sent_s=contents.sent_s(n, e.credentials.user))
            for n in held
            if (e := contents.devices[n])
        ]
        former = [
            Key(f.entry.credentials, f"earlier vault entry of {f.name}", own=True)
            for f in reversed(contents.former)
            if (f.name, f.entry.credentials.user) not in contents.accounts
            and (f.entry.identity.same_device(identity) or (f.name in wanted and self._fits(f.name, identity, f.entry)))
        ]
        ours = [Key(c.credentials, c.label) for c in contents.candidates if not c.factory_of]
        defaults = [
            Key(c.credentials, c.label, factory=True)
            for c in contents.candidates
            if c.factory_of and (not maker or c.factory_of.lower() == maker.lower())
        ]
        keys: dict[Credentials, Key] = {}
        for key in (*own, *former, *ours, *defaults):
            keys.setdefault(key.credentials, key)
        return list(keys.values())

    def _fits(self, name: str, identity: Identity, entry: DeviceEntry | None = None) -> bool:
        """Whether nothing contradicts that the password of this entry is the device's."""
        entry = entry or self.contents.devices[name]
        return self.is_same(name) or entry.identity.same_device(identity) is not False

    def holds(self, name: str) -> bool:
        """Whether the vault has a password for this device of the plan."""
        return self.entry_of(name) in self.contents.devices

    def entry_of(self, name: str) -> str:
        """The name under which the vault has the passwords of a row: that of its device, where it is a further lens."""
        camera = next((c for c in self.plan.cameras if c.name == name), None) if self.plan is not None else None
        return name if camera is None or self.plan is None else self.plan.device_of(camera).name

    def _names_of(self, same: Collection[str]) -> frozenset[str]:
        """The devices meant. Raises InputError."""
        known = planned_devices(self.plan) if self.plan else {}
        for word in same:
            if word not in known:
                raise InputError(
                    f"--same-device {word}: no planned device{meant(word, known)}", "expected its name in the plan"
                )
        return frozenset(map(self.entry_of, same))

    def _hosts_of(self, trusted: Collection[str]) -> frozenset[str]:
        """Hosts of the names and addresses whose new certificate the person accepts. Raises InputError."""
        hosts: set[str] = set()
        devices = planned_devices(self.plan) if self.plan else {}
        found = {k.name: k.host for k in self.logbook.known()}
        for word in trusted:
            planned = devices.get(word)
            here = [h for h in (planned.host if planned else None, found.get(word)) if h]
            if planned is None and not word[:1].isdigit() and ":" not in word:
                raise InputError(
                    f"--trust-new-certificate {word}: no planned device and no address",
                    f"expected an address or one of: {', '.join(devices)}",
                )
            hosts |= set(here or [word])
        return frozenset(hosts)


def _planned_macs(planned: Camera | Recorder) -> list[str]:
    """The MAC addresses by which a device must be known; none where the plan does not name those of all its legs."""
    macs = [leg.mac for leg in planned.legs()] if isinstance(planned, Recorder) else [planned.mac]
    return [mac for mac in macs if mac] if all(macs) else []


@dataclass
class PinnedCertificates:
    """Certificates are pinned in the vault when first seen; another one of the same device, or where no entry knows it at the
    same place, is refused. One that is pinned for another device of the site shows that this is where that one is now.

    Without a vault nothing is pinned, and no password is there to go out. `name`: the vault's entry of the device that is meant;
    `seen` holds the fingerprints of this run.
    """

    vault: Vault | None
    trusted: Collection[str] = ()
    keep: bool = True
    seen: dict[str, str] = field(default_factory=dict)
    name: str = ""

    def __call__(self, host: str, port: int, certificate: bytes) -> None:
        where, shown = f"{host}:{port}", hashlib.sha256(certificate).hexdigest()
        contents = self.vault.contents if self.vault else Contents()
        entry = contents.devices.get(self.name)
        of_entry = entry.certificates.get(str(port), "") if entry else ""
        pinned = of_entry or contents.certificates.get(where, "")
        owners = [name for name, e in contents.devices.items() if shown in e.certificates.values()]
        moved = len(owners) == 1 and owners != [self.name]
        if pinned not in ("", shown) and host not in self.trusted and not moved:
            raise CertificateError(
                f"{where}: its certificate has changed: SHA-256 {spelled(shown)}, it was {spelled(pinned)}",
                "find out why: new firmware, another device, or somebody in between. Where it is right, accept it with "
                "--trust-new-certificate",
            )
        if self.vault is not None and self.keep and pinned != shown and not moved:
            if of_entry:
                self.vault.keep_certificate(self.name, where, shown)
            else:
                self.vault.pin_certificate(where, shown)
        self.seen[where] = shown


def spelled(fingerprint: str) -> str:
    """A fingerprint as browsers show it, its first bytes: AB:CD:..."""
    return ":".join(fingerprint[i : i + 2].upper() for i in range(0, 16, 2)) + "..."

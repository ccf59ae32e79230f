"""What a run needs to get into devices: the vault, the ledger of refusals, the pinned certificates, and patience."""

from __future__ import annotations

import asyncio
import hashlib
import secrets
from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, field
from datetime import datetime

from zentrale import quantities
from zentrale.errors import CertificateError, InputError, PassphraseChangedError
from zentrale.field.rules import Rules, _Turns
from zentrale.field.sessions import Sessions
from zentrale.jobs.planned import planned_devices
from zentrale.logbook.ledger import Patience, RefusalLedger
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Contents, Vault
from zentrale.protocols.http_auth import Credentials
from zentrale.site.identity import Identity
from zentrale.site.model import Camera, Plan, Recorder

_ASK_AGAIN = 3  # times for the vault's new passphrase
_WAIT_SLICE_S = 1.0


@dataclass(frozen=True)
class Manner:
    """How the person at the terminal is spoken with. `ask_passphrase` None: there is nobody to ask."""

    tell: Callable[[str], None] = lambda text: None
    ask_passphrase: Callable[[], str] | None = None


@dataclass(frozen=True)
class Key:
    """Credentials to try, and whose they are: `label` never holds a password."""

    credentials: Credentials
    label: str
    own: bool = False
    factory: bool = False


class Keyring:
    """One run's means of getting in. `dry_run`: nothing is written into the vault, no certificate either."""

    def __init__(
        self,
        plan: Plan | None,
        vault: Vault | None,
        logbook: Logbook,
        patience: Patience,
        *,
        trusted: Collection[str] = (),
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
        self.certificates = PinnedCertificates(vault, self._hosts_of(trusted), keep=not dry_run)
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
        return Rules(self.ledger, self.certificates, in_clear, self._turns, self._sessions, *ports)

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
        wanted = [*contents.names_of(identity), *map(self.entry_of, names)]
        own = [
            Key(e.credentials, f"vault entry of {n}", own=True)
            for n in dict.fromkeys(wanted)
            if (e := contents.devices.get(n)) and e.identity.same_device(identity) is not False
        ]
        former = [
            Key(f.entry.credentials, f"earlier vault entry of {f.name}", own=True)
            for f in reversed(contents.former)
            if f.name in wanted or f.entry.identity.same_device(identity)
        ]
        lost = [
            Key(contents.devices[n].credentials, f"vault entry of {n}", own=True)
            for n in orphans
            if n in contents.devices and contents.devices[n].identity.same_device(identity) is not False
        ]
        ours = [Key(c.credentials, c.label) for c in contents.candidates if not c.factory_of]
        defaults = [
            Key(c.credentials, c.label, factory=True)
            for c in contents.candidates
            if c.factory_of and (not maker or c.factory_of.lower() == maker.lower())
        ]
        keys: dict[Credentials, Key] = {}
        for key in (*own, *former, *lost, *ours, *defaults):
            keys.setdefault(key.credentials, key)
        return list(keys.values())

    def holds(self, name: str) -> bool:
        """Whether the vault has a password for this device of the plan."""
        return self.entry_of(name) in self.contents.devices

    def entry_of(self, name: str) -> str:
        """The name under which the vault has the passwords of a row: that of its device, where it is a further lens."""
        camera = next((c for c in self.plan.cameras if c.name == name), None) if self.plan is not None else None
        return name if camera is None or self.plan is None else self.plan.device_of(camera).name

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


@dataclass
class PinnedCertificates:
    """Certificates are pinned in the vault when first seen; another one at the same place is refused.

    Without a vault nothing is pinned, and no password is there to go out. `seen` holds the fingerprints of this run.
    """

    vault: Vault | None
    trusted: Collection[str] = ()
    keep: bool = True
    seen: dict[str, str] = field(default_factory=dict)

    def __call__(self, host: str, port: int, certificate: bytes) -> None:
        where, shown = f"{host}:{port}", hashlib.sha256(certificate).hexdigest()
        pinned = self.vault.contents.certificates.get(where) if self.vault else None
        if pinned not in (None, shown) and host not in self.trusted:
            raise CertificateError(
                f"{where}: its certificate has changed: SHA-256 {spelled(shown)}, it was {spelled(pinned or '')}",
                "find out why: new firmware, another device, or somebody in between. Where it is right, accept it with "
                "--trust-new-certificate",
            )
        if self.vault is not None and self.keep and pinned != shown:
            self.vault.pin_certificate(where, shown)
        self.seen[where] = shown


def spelled(fingerprint: str) -> str:
    """A fingerprint as browsers show it, its first bytes: AB:CD:..."""
    return ":".join(fingerprint[i : i + 2].upper() for i in range(0, 16, 2)) + "..."

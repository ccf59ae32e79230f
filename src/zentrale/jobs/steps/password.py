"""The device's password: a first one, or one in place of its maker's default, kept in the vault before it is set."""

from __future__ import annotations

import asyncio
import time
from dataclasses import dataclass, replace

from zentrale.errors import DeviceError, RefusedError, UnreachableError
from zentrale.field.device import Device
from zentrale.field.http import place_of
from zentrale.findings import Finding, finding
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.entry_judged import claims_to_be_fresh
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.passwords import new_password
from zentrale.jobs.passwords.access import Claim, find_entry, who_it_is
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.passwords.trying import Entry, prove
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import device
from zentrale.site.identity import Identity
from zentrale.site.model import Camera, Recorder

FIRST_USER = "admin"
_OWN_PASSWORD = "a password of its own, kept in the vault"
_LOOKS, _LOOK_EVERY_S = 4, 5.0  # after an answer that did not come: a slow device has taken the password by then


@dataclass(frozen=True)
class PasswordState:
    """`state` as discovery tells it; `label` says whose password opens it, and never holds it."""

    state: str
    user: str = ""
    label: str = ""


def steps(bench: Bench) -> list[Password]:
    return [Password(bench.client, bench.keyring, bench.planned, bench.seen)]


class Password(Step[PasswordState]):
    """Also gets into the device: the steps after it use the credentials that were found or set."""

    name = "password"
    enters = True
    settles = ("SEC-3", "SEC-4", "SEC-7", "SEC-8", "SEC-9")
    settles_changed = ("SEC-1",)  # where our own password opens it, nobody has tried its maker's
    stays = "its password stays as it is: it lies in the vault"

    def __init__(self, client: Device, keyring: Keyring, planned: Camera | Recorder, seen: FoundDevice) -> None:
        assert keyring.vault is not None and keyring.plan is not None
        super().__init__(client)
        self.keyring = keyring
        self.vault = keyring.vault
        self.device_name = planned.name
        self.maker = keyring.plan.maker(planned)
        self.planned = planned
        self.length = keyring.plan.password_length(planned)
        self.settle_s = keyring.new_password_s
        self.seen = seen
        self.noticed: list[Finding] = []
        self.identity = Identity()
        self._entry: Entry | None = None
        self._set: Credentials | None = None

    async def look(self) -> PasswordState:
        await self.client.read_clock()
        claim = Claim.of(self.keyring, self.seen, self.planned)
        entry = self._entry = await find_entry(self.client, self.keyring, claim, self.device_name)
        if entry.state is State.ANOTHER:
            raise RefusedError(
                f"{entry.in_words()}. If it took the place of the one before: `zentrale replace {self.device_name} --with "
                f"{self.client.host}`; if it is the same: --same-device {self.device_name}"
            )
        if entry.closed:
            refused = entry.state is State.UNKNOWN_PASSWORD and entry.tried
            raise RefusedError(self._advice(entry) if refused else entry.in_words())
        if entry.state is State.OPEN:
            raise DeviceError(
                "it answers everybody, and who its administrator is cannot be told; "
                + ("turn authentication on in its own page, with the password in the vault"
                   if self.keyring.holds(self.device_name) else "turn authentication on in its own page, or reset it first")
            )  # fmt: skip
        self.identity = await self._check_identity()
        self._tell(entry)
        user = entry.credentials.user if entry.credentials else ""
        return PasswordState(entry.state.value, user, entry.label)

    def _tell(self, entry: Entry) -> None:
        """What a person should know of its password, though nothing failed."""
        held, self.noticed = self.keyring.contents.devices.get(self.device_name), []
        if entry.state is State.FRESH and held is not None and not self._pending():
            self.noticed.append(claims_to_be_fresh(ref_of(self.planned)))
        if held is not None and 0 < held.longest < self.length:
            kept = f"it keeps the first {held.longest} characters of a password, and tells nobody"
            where = f"types.toml {self.keyring.plan.kind(self.planned).name}" if self.keyring.plan else "types.toml"
            advice = f"set password_length = {held.longest} for its type in types.toml"
            limit = f"{self.length} characters"
            self.noticed.append(finding("SEC-13", ref_of(self.planned), kept, limit, where, advice))

    def _pending(self) -> Credentials | None:
        """A new password that was made for it and not yet seen to open: it is nobody else's, so it may be sent again."""
        held = self.keyring.contents.devices.get(self.device_name)
        if held is None or self.keyring.contents.sent_s(self.device_name, held.credentials.user) is None:
            return None
        return held.credentials

    def wanted(self, now: PasswordState) -> PasswordState:
        if now.state in (State.OUR_PASSWORD.value, State.KNOWN_PASSWORD.value):
            return now
        return PasswordState(State.OUR_PASSWORD.value, now.user or FIRST_USER)

    def holds(self, now: PasswordState, wanted: PasswordState) -> bool:
        return (now.state, now.user) == (wanted.state, wanted.user)

    async def apply(self, now: PasswordState, wanted: PasswordState) -> None:
        """The vault is written before the device: a run that dies between the two is taken up by the next. Whoever claims to be
        fresh gets a password that opens nothing else.
        """
        own = self._pending()
        fresh = now.state == State.FRESH.value
        level = device.ADMINISTRATOR if fresh else await self._level_of(wanted.user)
        before = self.client.credentials
        make = device.create_users if fresh else device.set_user

        async def keep(new: Credentials) -> None:
            self._set = new
            await asyncio.to_thread(self.vault.set_device, self.device_name, new, self.identity, pending=True)

        async def send(new: Credentials) -> None:
            try:
                await self.client.call("tds", make(new, level))
            except UnreachableError:
                if not await self._taken(before):
                    raise

        held = own if own and own.user == wanted.user else None
        self.client.use(await new_password.give(self.client, wanted.user, self.length, keep, send, held))

    async def _level_of(self, user: str) -> str:
        """An account keeps its level: only its password was planned."""
        levels = {a.user: a.level for a in await self.client.users()}
        return levels.get(user) or device.ADMINISTRATOR

    async def _taken(self, before: Credentials | None) -> bool:
        """Its answer did not come: does what opened it before still open it? Asking again could set the password twice,
        and trying the new one on a device that has not taken it would count as a wrong one.
        """
        for _ in range(_LOOKS):
            await asyncio.sleep(_LOOK_EVERY_S)
            self.client.use(before)
            try:
                await self.client.users()
            except RefusedError:
                return True
            except UnreachableError:
                continue
        return False

    async def read_back(self, wanted: PasswordState) -> PasswordState:
        """Strangers must be refused, and the new password must open it, within the time that a device may take: a fresh one that
        keeps nothing takes any.
        """
        self.client.as_stranger()
        try:
            accounts = await self.client.users()
        except RefusedError:
            pass
        else:
            state = State.OPEN if accounts else State.FRESH
            return PasswordState(state.value)
        assert self._set is not None
        sent_s = self.keyring.contents.sent_s(self.device_name, self._set.user) or time.time()
        try:
            await prove(self.client, self.keyring, self.device_name, self._set, sent_s)
        except RefusedError as error:
            raise RefusedError(
                f"a new password was sent and does not open it yet ({error}); it is in the vault, and `zentrale register "
                f"--only {self.device_name}` goes on with it"
            ) from None
        self.keyring.proved(self.device_name, self._set, self.identity, place_of(self.client.url))
        return PasswordState(State.OUR_PASSWORD.value, self._set.user)

    def note(self, state: PasswordState) -> None:
        """The password that opens it is kept for this device, with what identifies it."""
        found = self._entry.credentials if self._entry else None
        credentials = self._set or found
        if credentials is not None:
            self.vault.set_device(self.device_name, credentials, self.identity)

    def shown(self, state: PasswordState) -> str:
        if state.state == State.OUR_PASSWORD.value:
            return _OWN_PASSWORD
        return state.label if state.state == State.KNOWN_PASSWORD.value else state.state

    def _advice(self, entry: Entry) -> str:
        if entry.sent:
            enter = f"`zentrale vault set {self.device_name} USER`"
            return f"{entry.in_words()}; what is left is to reset it, or to enter the password that it has with {enter}"
        if self.keyring.holds(self.device_name):
            return (
                f"{entry.in_words()}: the password in the vault does not open it; was it changed in its own page? Enter that "
                f"with `zentrale vault set {self.device_name} USER`"
            )
        return f"{entry.in_words()}: no password in the vault opens it; add the right one with `zentrale vault add`"

    async def _check_identity(self) -> Identity:
        """Never set up the wrong device: addresses move between discovery and registration."""
        told = await who_it_is(self.client)
        known = self.keyring.contents.devices.get(self.device_name)
        expected = self.seen.identity if known is None or not known.identity.macs else known.identity
        row = Identity.of([self.planned.mac] if self.planned.mac else [])
        expected = row if row.macs else expected
        if expected.macs and told.macs and not expected.macs & told.macs and not self.keyring.is_same(self.device_name):
            here = ", ".join(sorted(told.macs))
            raise DeviceError(
                f"another device answers here: its MAC address is {here}, expected {', '.join(sorted(expected.macs))}"
            )
        self.keyring.saw(self.client.host, told)
        seen_now = self.keyring.shows(self.client.host, self.planned)
        return replace(told.joined(seen_now), endpoint=self.seen.own_endpoint)

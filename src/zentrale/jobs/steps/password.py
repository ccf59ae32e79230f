"""The device's password: a first one, or one in place of its maker's default, kept in the vault before it is set."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zentrale.errors import DeviceError, RefusedError, UnreachableError
from zentrale.field.device import Device
from zentrale.jobs.access import Entry, find_entry
from zentrale.jobs.discovery.found import FoundDevice
from zentrale.jobs.discovery.states import State
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.steps import new_password
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.step import Step, loaded
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
    needs = ()
    settles = ("SEC-3", "SEC-4", "SEC-7", "SEC-8", "SEC-9")
    settles_changed = ("SEC-1",)  # where our own password opens it, nobody has tried its maker's
    stays = "its password stays as it is: it lies in the vault"

    def __init__(self, client: Device, keyring: Keyring, planned: Camera | Recorder, seen: FoundDevice) -> None:
        assert keyring.vault is not None and keyring.plan is not None
        self.client = client
        self.keyring = keyring
        self.vault = keyring.vault
        self.device_name = planned.name
        self.maker = keyring.plan.maker(planned)
        self._length = keyring.plan.policy.password_length
        self.macs = frozenset([planned.mac]) if planned.mac else seen.identity.macs
        self.seen = seen
        self.identity = Identity()
        self._entry: Entry | None = None
        self._set: Credentials | None = None

    async def look(self) -> PasswordState:
        await self.client.system_time()
        keys = self.keyring.keys(self.seen.identity, [self.device_name], self.maker)
        entry = self._entry = await find_entry(self.client, self.keyring, keys, self.device_name)
        if entry.closed:
            raise RefusedError(entry.told() if entry.tried == 0 or entry.left else self._advice(entry))
        if entry.state is State.OPEN:
            raise DeviceError(
                "it answers everybody, and who its administrator is cannot be told; "
                + ("turn authentication on in its own page, with the password in the vault"
                   if self.keyring.holds(self.device_name) else "turn authentication on in its own page, or reset it first")
            )  # fmt: skip
        self.identity = await self._check_identity()
        user = entry.credentials.user if entry.credentials else ""
        return PasswordState(entry.state.value, user, entry.label)

    def wanted(self, now: PasswordState) -> PasswordState:
        if now.state in (State.OUR_PASSWORD.value, State.KNOWN_PASSWORD.value):
            return now
        return PasswordState(State.OUR_PASSWORD.value, now.user or FIRST_USER)

    def holds(self, now: PasswordState, wanted: PasswordState) -> bool:
        return (now.state, now.user) == (wanted.state, wanted.user)

    async def apply(self, now: PasswordState, wanted: PasswordState) -> None:
        """The vault is written before the device: a run that dies between the two is taken up by the next."""
        own = self.vault.device(self.device_name)
        fresh = now.state == State.FRESH.value
        level = device.ADMINISTRATOR if fresh else await self._level_of(wanted.user)
        before = self.client.credentials
        make = device.create_users if fresh else device.set_user

        async def keep(new: Credentials) -> None:
            self._set = new
            await asyncio.to_thread(self.vault.set_device, self.device_name, new, self.identity)

        async def send(new: Credentials) -> None:
            try:
                await self.client.call("tds", make(new, level))
            except UnreachableError:
                if not await self._taken(before):
                    raise

        held = own if own and own.user == wanted.user else None
        self.client.credentials = await new_password.give(self.client, wanted.user, self._length, keep, send, held)

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
            self.client.credentials = None
            self.client.credentials = before
            try:
                await self.client.users()
            except RefusedError:
                return True
            except UnreachableError:
                continue
        return False

    async def read_back(self, wanted: PasswordState) -> PasswordState:
        """Strangers must be refused, and the new password must open it: a fresh device that keeps nothing takes any."""
        self.client.credentials = None
        try:
            accounts = await self.client.users()
        except RefusedError:
            pass
        else:
            state = State.OPEN if accounts else State.FRESH
            return PasswordState(state.value)
        assert self._set is not None
        await self.client.login(self._set)
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

    def load(self, document: Mapping[str, Any]) -> PasswordState:
        return loaded(PasswordState, document)

    def _advice(self, entry: Entry) -> str:
        if self.keyring.holds(self.device_name):
            return (
                f"{entry.told()}: the password in the vault does not open it; was it changed in its own page? Enter that "
                f"with `zentrale vault set {self.device_name} USER`"
            )
        return f"{entry.told()}: no password in the vault opens it; add the right one with `zentrale vault add`"

    async def _check_identity(self) -> Identity:
        """Never set up the wrong device: addresses move between discovery and registration."""
        macs = Identity.of([i.mac for i in await self.client.interfaces()]).macs
        if self.macs and not self.macs & macs:
            told = ", ".join(sorted(macs)) or "none"
            expected = ", ".join(sorted(self.macs))
            raise DeviceError(f"another device answers here: its MAC address is {told}, expected {expected}")
        information = await self.client.information()
        return Identity.of(macs, information.maker, information.model, information.serial, self.seen.own_endpoint)

"""A new password in place of one that works: the vault first, then the device, then whoever else holds it."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zentrale.errors import DeviceError, RefusedError, UnreachableError
from zentrale.field.device import Device
from zentrale.jobs.steps import new_password
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.step import Step, loaded
from zentrale.logbook.made_passwords import generate_password
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import device

PREFIX = "new password of "


@dataclass(frozen=True)
class SecretState:
    """`key` is the fingerprint of the password that opens the account, as the logbook may know it."""

    user: str
    key: str


class NewPassword(Step[SecretState]):
    """`own`: the account that this program enters with; else a further one of the device, known by the vault."""

    needs = ()
    settle_s = 6.0  # some take it over a moment after they said OK
    stays = "its new password lies in the vault, and nobody could put the old one back without knowing it"

    def __init__(self, bench: Bench, user: str, *, own: bool) -> None:
        assert bench.keyring.vault is not None
        self.name = f"{PREFIX}{user}"
        self.client = bench.client
        self.vault = bench.keyring.vault
        self._fingerprint = bench.keyring.contents.fingerprint
        self._device = bench.planned.name
        self._length = bench.plan.policy.password_length
        self._user = user
        self._own = own
        self._old: Credentials | None = None
        self._new: Credentials | None = None
        self._unclear = False

    async def look(self) -> SecretState:
        held = self.client.credentials if self._own else self.vault.account(self._device, self._user)
        if held is None or held.user != self._user:
            raise DeviceError(f"the vault has no password of {self._user}; `zentrale register` makes the account")
        self._old = held
        return SecretState(self._user, self._fingerprint(held))

    def wanted(self, now: SecretState) -> SecretState:
        """As long as the one that the device has taken before, so that it takes this one too."""
        assert self._old is not None
        if self._new is None:
            self._new = Credentials(self._user, generate_password(self._longest()))
        return SecretState(self._user, self._fingerprint(self._new))

    def _longest(self) -> int:
        assert self._old is not None
        held = len(self._old.password)
        return min(self._length, held) if held >= new_password.SHORTEST else self._length

    async def apply(self, now: SecretState, wanted: SecretState) -> None:
        assert self._new is not None and self._old is not None
        levels = {a.user: a.level for a in await self.client.users()}
        if self._user not in levels:
            raise DeviceError(f"it has no account {self._user}; `zentrale register` makes it")

        async def send(new: Credentials) -> None:
            self._new = new
            await self.client.call("tds", device.set_user(new, levels[self._user]))

        try:
            self._new = await new_password.give(self.client, self._user, self._length, self._keep, send, self._new)
        except UnreachableError:
            self._unclear = True  # it may have taken it: it is looked at, and both passwords are in the vault
            raise
        except DeviceError:
            await self._keep(self._old)
            raise

    async def _keep(self, credentials: Credentials) -> None:
        if self._own:
            await asyncio.to_thread(self.vault.set_device, self._device, credentials)
        else:
            await asyncio.to_thread(self.vault.set_account, self._device, credentials)

    async def read_back(self, wanted: SecretState) -> SecretState:
        """Which of the two opens it now. Where it said OK the new one is asked first, and once; from then on the old one first:
        so that nothing wrong is tried at a device that does as it says, and one wrong password at one that does not.
        """
        assert self._new is not None and self._old is not None
        first, self._unclear = not self._unclear, True
        opens = self._new if first and await self._opens(self._new) else None
        try:
            if opens is None and await self._opens(self._old):
                opens = self._old
        except DeviceError:
            if first:  # the new one was refused just now: it is the likelier that it has kept the old one
                await self._keep(self._old)
            raise
        if opens is None and (first or not await self._opens(self._new)):
            raise RefusedError("neither its old nor its new password opens it; both are in the vault")
        kept = opens or self._new
        await self._keep(kept)
        if self._own:
            await self.client.login(kept)
        return SecretState(self._user, self._fingerprint(kept))

    async def _opens(self, credentials: Credentials) -> bool:
        async with Device(self.client.url, self.client.rules, endpoint=self.client.target.endpoint) as other:
            await other.system_time()
            other.credentials = credentials
            try:
                await other.information()
            except RefusedError:
                return False
            return True

    def shown(self, state: SecretState) -> str:
        return "the new one" if self._new and state.key == self._fingerprint(self._new) else "the one before"

    def load(self, document: Mapping[str, Any]) -> SecretState:
        return loaded(SecretState, document)

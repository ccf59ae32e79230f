"""A new password in place of one that works: the vault first, then the device, then whoever else holds it."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from dataclasses import dataclass

from zentrale.errors import DeviceError, RefusedError, UnreachableError
from zentrale.field.device import Device
from zentrale.field.http import place_of
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.passwords import new_password
from zentrale.jobs.passwords.access import who_it_is
from zentrale.jobs.passwords.trying import closed_question, prove
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.doors import Purpose
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import device
from zentrale.protocols.onvif.password_rules import PasswordRules

PREFIX = "new password of "


@dataclass(frozen=True)
class SecretState:
    """`key` is the fingerprint of the password that opens the account, as the logbook may know it."""

    user: str
    key: str


class NewPassword(Step[SecretState]):
    """`own`: the account that this program enters with; else a further one of the device, known by the vault."""

    stays = "its new password lies in the vault, and nobody could put the old one back without knowing it"

    def __init__(self, bench: Bench, user: str, *, own: bool) -> None:
        assert bench.keyring.vault is not None
        self.name = f"{PREFIX}{user}"
        super().__init__(bench.client)
        self.keyring = bench.keyring
        self.vault = bench.keyring.vault
        self.settle_s = bench.keyring.new_password_s
        self._planned = bench.planned
        self._fingerprint = bench.keyring.contents.fingerprint
        self._device = bench.keyring.entry_of(bench.planned.name)
        self._length = bench.plan.password_length(bench.planned)
        self._rules = PasswordRules()
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
        if not self.client.url.startswith("https:"):
            self.keyring.may_set_new(self._planned, self.client.host)
        self._rules = await new_password.rules_of(self.client)
        return SecretState(self._user, self._fingerprint(held))

    def wanted(self, now: SecretState) -> SecretState:
        """By the rules that the device tells; as long as the one that it has taken before, where it tells no longest. One
        that was made before and not yet seen to open is taken up: nobody else has it.
        """
        assert self._old is not None
        if self._new is None:
            held = self.vault.device(self._device) if self._own else None
            pending = self.keyring.contents.sent_s(self._device, self._user) is not None
            taken_up = held if pending and held is not None and held.user == self._user and held != self._old else None
            self._new = taken_up or new_password.made(self._user, self._longest(), self._rules)
        return SecretState(self._user, self._fingerprint(self._new))

    def _longest(self) -> int:
        """How long the new password may be [characters]."""
        assert self._old is not None
        held = len(self._old.password)
        return min(self._length, held) if not self._rules.longest and held >= new_password.SHORTEST else self._length

    async def apply(self, now: SecretState, wanted: SecretState) -> None:
        assert self._new is not None and self._old is not None
        levels = {a.user: a.level for a in await self.client.users()}
        if self._user not in levels:
            raise DeviceError(f"it has no account {self._user}; `zentrale register` makes it")

        async def send(new: Credentials) -> None:
            self._new = new
            await self.client.call("tds", device.set_user(new, levels[self._user]))

        try:
            self._new = await new_password.give(
                self.client, self._user, self._longest(), self._send_first, send, self._new, self._rules
            )
        except UnreachableError:
            self._unclear = True  # it may have taken it: it is looked at, and both passwords are in the vault
            raise
        except DeviceError:
            await self._keep(self._old)
            raise

    async def _send_first(self, credentials: Credentials) -> None:
        """Into the vault, before it goes out."""
        await self._keep(credentials, pending=True)

    async def _keep(self, credentials: Credentials, *, pending: bool = False) -> None:
        if self._own:
            await asyncio.to_thread(self.vault.set_device, self._device, credentials, pending=pending)
        else:
            await asyncio.to_thread(self.vault.set_account, self._device, credentials, pending=pending)

    async def read_back(self, wanted: SecretState) -> SecretState:
        """Which of the two opens it now. Where it said OK the new one is asked first, and once; from then on the old one first:
        so that nothing wrong is tried at a device that does as it says, and one wrong password at one that does not. Where
        neither opens it, it is still at it: the new one has its time.
        """
        assert self._new is not None and self._old is not None
        first, self._unclear = not self._unclear, True
        if first:  # one that was late before is not asked sooner than it can know
            await asyncio.sleep(max(0.0, self.keyring.ready_at_s(self._device, self._sent_s()) - time.time()))
        opens = self._new if first and await self._opens(self._new, Purpose.PROVE) else None
        early = [time.time()] if first and opens is None else []
        try:
            if opens is None and await self._opens(self._old, Purpose.ENTER):
                opens = self._old
        except DeviceError:
            if first:  # the new one was refused just now: it is the likelier that it has kept the old one
                await self._keep(self._old)
            raise
        if opens is None and not await self._opens(self._new, Purpose.PROVE, early):
            raise RefusedError("neither its old nor its new password opens it; both are in the vault")
        kept = opens or self._new
        if kept == self._new and not first:  # the old one opened it for a while
            await asyncio.to_thread(self.vault.takes, self._device, time.time() - self._sent_s())
        if kept == self._old:
            await self._keep(kept)
        elif self._own:
            await self.client.login(kept)
            told = await who_it_is(self.client)
            self.keyring.proved(self._device, kept, told, place_of(self.client.url))
        else:
            await asyncio.to_thread(self.vault.prove_account, self._device, self._user)
        return SecretState(self._user, self._fingerprint(kept))

    def _sent_s(self) -> float:
        return self.keyring.contents.sent_s(self._device, self._user) or time.time()

    async def _opens(
        self, credentials: Credentials, purpose: Purpose, refused_at_s: Sequence[float] | None = None
    ) -> bool:
        """Whether these open the account. `refused_at_s`: it has its time until that is told, and these refusals count then."""
        async with Device(self.client.url, self.client.rules, endpoint=self.client.target.endpoint) as other:
            await other.read_clock()
            ask = other.users if self._own else await closed_question(other)
            if ask is None:
                return True  # it asks nobody for a password
            other.purpose = purpose
            try:
                if refused_at_s is None:
                    await other.login(credentials, ask=ask)
                else:
                    await prove(
                        other,
                        self.keyring,
                        self._device,
                        credentials,
                        self._sent_s(),
                        ask=ask,
                        refused_at_s=refused_at_s,
                    )
            except RefusedError:
                return False
            return True

    def shown(self, state: SecretState) -> str:
        return "the new one" if self._new and state.key == self._fingerprint(self._new) else "the one before"

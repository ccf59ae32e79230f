"""Further accounts on a device: those of people by their role, and the one that recorders watch with and nothing else."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from zentrale.errors import DeviceError, RefusedError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.passwords import new_password
from zentrale.jobs.passwords.trying import CUT_TO, prove_account
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.doors import Door
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import device

LEVELS = {"administrator": device.ADMINISTRATOR, "operator": device.OPERATOR, "viewer": device.USER}


def steps(bench: Bench) -> list[Account]:
    """In the order of the plan; the recorders' own last, since the channel needs it."""
    on = "cameras" if bench.camera is not None else "recorders"
    wanted = [(a.user, LEVELS[a.role]) for a in bench.plan.accounts if a.on in ("all", on)]
    watching = bench.plan.policy.recorder_account
    if bench.camera is not None and watching:
        wanted.append((watching, LEVELS[bench.plan.recorder_role(bench.camera)]))
    users = [user for user, _ in wanted]
    return [Account(bench, user, level, users[:number]) for number, (user, level) in enumerate(wanted)]


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> Account | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    user = name.removeprefix(name_of(""))
    return Account(bench, user, str(state.get("level") or LEVELS["viewer"])) if name == name_of(user) and user else None


def name_of(user: str) -> str:
    """What the step is called that makes this account."""
    return f"account {user}"


@dataclass(frozen=True)
class AccountState:
    """`level` as ONVIF's UserLevel, empty where the device has no such account; `known`: its password is in the vault, and was
    seen to open.
    """

    level: str
    known: bool


class Account(Step[AccountState]):
    """`before`: planned accounts that are made before this one, and take their room."""

    place = "users"

    def __init__(self, bench: Bench, user: str, level: str, before: Sequence[str] = ()) -> None:
        assert bench.keyring.vault is not None
        self.keyring = bench.keyring
        self.before = before
        self.name = name_of(user)
        super().__init__(bench.client)
        self.vault = bench.keyring.vault
        self._device = bench.planned.name
        self._length = bench.plan.password_length(bench.planned)
        self._user = user
        self._level = level
        self._given: Credentials | None = None

    def aim(self) -> str:
        return f"{self._user} as {self._level}"

    async def look(self) -> AccountState:
        levels = {a.user: a.level for a in await self.client.users()}
        known = await asyncio.to_thread(self.vault.account, self._device, self._user) is not None
        if self._user in levels and not known and not await self.keyring.may_overwrite(self._device, self._user):
            raise DeviceError(
                f"it has an account {self._user} already, whose password is not in the vault: whose is it? It was left as it is. "
                f"Enter its password with `zentrale vault set {self._device} {self._user}`, plan another name, or give it a new "
                "password with --overwrite-accounts"
            )
        if self._user not in levels:
            await self._check_room(levels)
        pending = self.keyring.contents.sent_s(self._device, self._user) is not None
        return AccountState(levels.get(self._user, ""), known and not pending)

    async def _check_room(self, levels: Mapping[str, str]) -> None:
        """Raises DeviceError where it has no room for another account (ONVIF Core, security capabilities: MaxUsers)."""
        most = await new_password.most_users(self.client)
        coming = [user for user in self.before if user not in levels]
        if most and len(levels) + len(coming) >= most:
            there = ", ".join([*levels, *(f"{user} (planned)" for user in coming)])
            raise DeviceError(
                f"it has room for {most} accounts, and all are taken: {there}. Remove one in its own page, or plan fewer"
            )

    def wanted(self, now: AccountState) -> AccountState:
        own = self.client.credentials
        if own is not None and own.user == self._user:
            raise DeviceError(f"{self._user} is the account that this program itself enters with; plan another name")
        return AccountState(self._level, known=True)

    async def apply(self, now: AccountState, wanted: AccountState) -> None:
        if not wanted.level:
            await self.client.call("tds", device.delete_user(self._user))
        elif now.level and now.known:
            await self.client.call("tds", device.set_level(self._user, wanted.level))
        else:
            make = device.set_user if now.level else device.create_users

            async def keep(new: Credentials) -> None:
                await asyncio.to_thread(self.vault.set_account, self._device, new, pending=True)

            async def send(new: Credentials) -> None:
                self._given = new
                await self.client.call("tds", make(new, wanted.level))

            held, length = await asyncio.to_thread(self._held)
            try:
                await new_password.give(self.client, self._user, length, keep, send, held)
            except DeviceError as error:
                if "TooManyUsers" not in error.subcodes:
                    raise
                there = ", ".join(a.user for a in await self.client.users())
                raise DeviceError(
                    f"it has no room for another account: there are {there}. Remove one in its own page"
                ) from None

    def _held(self) -> tuple[Credentials | None, int]:
        """A pending password, which may be sent again, and how long a new one may be. One that was refused after it had its time
        was cut, perhaps: the next is shorter. A proved one is never given a second time, whoever asks for it.
        """
        contents = self.keyring.contents
        entry, held = contents.devices.get(self._device), contents.accounts.get((self._device, self._user))
        length = min(self._length, entry.longest or self._length) if entry else self._length
        if held is None or contents.sent_s(self._device, self._user) is None:
            return None, length
        if self.keyring.ledger.last_asked(self.client.target, Door.ONVIF, held) > 0:
            return None, next((n for n in CUT_TO if n < len(held.password)), CUT_TO[-1])
        return held, length

    async def read_back(self, wanted: AccountState) -> AccountState:
        """It must be there, and its new password must open the device."""
        levels = {a.user: a.level for a in await self.client.users()}
        if self._given is not None and self._user in levels and wanted.level:
            try:
                await prove_account(self.client, self.keyring, self._device, self._given)
            except RefusedError as error:
                raise RefusedError(
                    f"the account is there, and its new password does not open it yet: {error}"
                ) from None
        return await self.look()

    def shown(self, state: AccountState) -> str:
        if not state.level:
            return "none"
        return f"{self._user} as {state.level}" + ("" if state.known else ", its password is not in the vault")

    def untouched(self, now: AccountState, left: AccountState) -> bool:
        return now.level == left.level

    def back(self, now: AccountState, before: AccountState) -> AccountState:
        """An account that was made goes; one that was there keeps its new password, which nobody could put back."""
        return AccountState(before.level, now.known)

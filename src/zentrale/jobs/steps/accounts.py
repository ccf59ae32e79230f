"""Further accounts on a device: those of people by their role, and the one that recorders watch with and nothing else."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zentrale.errors import DeviceError, RefusedError
from zentrale.field.device import Device
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.steps import new_password
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.step import Step, loaded
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import device
from zentrale.site.model import Camera

LEVELS = {"administrator": device.ADMINISTRATOR, "operator": device.OPERATOR, "viewer": device.USER}


def steps(bench: Bench) -> list[Account]:
    """In the order of the plan; the recorders' own last, since the channel needs it."""
    on = "cameras" if bench.camera is not None else "recorders"
    wanted = [(a.user, LEVELS[a.role]) for a in bench.plan.accounts if a.on in ("all", on)]
    watching = bench.plan.policy.recorder_account
    if bench.camera is not None and watching:
        wanted.append((watching, LEVELS["viewer"]))
    return [Account(bench, user, level) for user, level in wanted]


def name_of(user: str) -> str:
    """What the step is called that makes this account."""
    return f"account {user}"


def watching_account(keyring: Keyring, camera: Camera) -> Credentials | None:
    """What recorders watch this camera with, as the vault has it; None where the plan wants no account for that."""
    assert keyring.plan is not None and keyring.vault is not None
    user = keyring.plan.policy.recorder_account
    return keyring.vault.account(keyring.entry_of(camera.name), user) if user else None


@dataclass(frozen=True)
class AccountState:
    """`level` as ONVIF's UserLevel, empty where the device has no such account; `known`: its password is in the vault."""

    level: str
    known: bool


class Account(Step[AccountState]):
    place = "users"

    def __init__(self, bench: Bench, user: str, level: str) -> None:
        assert bench.keyring.vault is not None
        self.name = name_of(user)
        self.client = bench.client
        self.vault = bench.keyring.vault
        self._device = bench.planned.name
        self._length = bench.plan.policy.password_length
        self._user = user
        self._level = level
        self._given: Credentials | None = None

    def aim(self) -> str:
        return f"{self._user} as {self._level}"

    async def look(self) -> AccountState:
        levels = {a.user: a.level for a in await self.client.users()}
        known = await asyncio.to_thread(self.vault.account, self._device, self._user) is not None
        return AccountState(levels.get(self._user, ""), known)

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
                await asyncio.to_thread(self.vault.set_account, self._device, new)

            async def send(new: Credentials) -> None:
                self._given = new
                await self.client.call("tds", make(new, wanted.level))

            held = await asyncio.to_thread(self.vault.account, self._device, self._user)
            await new_password.give(self.client, self._user, self._length, keep, send, held)

    async def read_back(self, wanted: AccountState) -> AccountState:
        """It must be there, and its new password must open the device."""
        state = await self.look()
        if self._given is not None and state.level and wanted.level:
            async with Device(self.client.url, self.client.rules, endpoint=self.client.target.endpoint) as other:
                await other.system_time()
                other.credentials = self._given
                try:
                    await other.information()
                except RefusedError as error:
                    raise RefusedError(
                        f"the account is there, and its new password does not open it: {error}"
                    ) from None
        return state

    def shown(self, state: AccountState) -> str:
        if not state.level:
            return "none"
        return f"{self._user} as {state.level}" + ("" if state.known else ", its password is not in the vault")

    def load(self, document: Mapping[str, Any]) -> AccountState:
        return loaded(AccountState, document)

    def untouched(self, now: AccountState, left: AccountState) -> bool:
        return now.level == left.level

    def back(self, now: AccountState, before: AccountState) -> AccountState:
        """An account that was made goes; one that was there keeps its new password, which nobody could put back."""
        return AccountState(before.level, now.known)

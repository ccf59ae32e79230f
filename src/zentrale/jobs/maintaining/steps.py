"""What is done to one device that is taken down: new firmware, a restored configuration, a restart."""

from __future__ import annotations

import asyncio
import hashlib
from dataclasses import dataclass

from zentrale.errors import AddressTakenError, DeviceError, UnreachableError
from zentrale.field import transfer
from zentrale.field.device import Device
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.whereabouts import Whereabouts
from zentrale.protocols.onvif import maintenance, network
from zentrale.protocols.onvif.maintenance import Upload
from zentrale.site.identity import Identity

_PATIENCE_S = 300.0  # beside what the device says that it takes
_GONE_WITHIN_S, _LOOK_EVERY_S = 60.0, 0.5


@dataclass(frozen=True)
class FirmwareState:
    """The version as the device tells it."""

    version: str


class NewFirmware(Step[FirmwareState]):
    """The file goes only to a device that is just what it is for, by its own word; it is believed when it is back with it."""

    name = "firmware"
    place = "system: firmware"
    stays = "an older firmware may not take the newer one's settings; push it by hand where it must be"

    def __init__(self, bench: Bench, version: str, content: bytes) -> None:
        super().__init__(bench.client)
        self._bench = bench
        self._version = version
        self._content = content

    def aim(self) -> str:
        return self._version

    async def look(self) -> FirmwareState:
        information = await self.client.information()
        kind = self._bench.plan.kind(self._bench.planned)
        told, wanted = (information.maker, information.model), (kind.maker, kind.model)
        if [w.strip().lower() for w in told] != [w.strip().lower() for w in wanted]:
            raise DeviceError(f"it is a {' '.join(told)}; the file is for {' '.join(wanted)}, and was not sent")
        return FirmwareState(information.firmware)

    def wanted(self, now: FirmwareState) -> FirmwareState:
        return FirmwareState(self._version)

    async def apply(self, now: FirmwareState, wanted: FirmwareState) -> None:
        where = maintenance.parse_upload(await self.client.call("tds", maintenance.start_upgrade()))
        self.settle_s, self.gone_s = await _sent(self.client, where, self._content)

    async def read_back(self, wanted: FirmwareState) -> FirmwareState:
        await self.client.begin_anew()  # after a restart it asks anew who is there
        return FirmwareState((await self.client.information()).firmware)

    def shown(self, state: FirmwareState) -> str:
        return state.version or "not told"


@dataclass(frozen=True)
class RestoreState:
    """`digest` is the SHA-256 of the back-up that was restored last by this program; empty: none."""

    digest: str


class Restore(Step[RestoreState]):
    """What the device makes of the file cannot be seen; that it went away and is back can."""

    name = "restore"
    place = "system: restore"
    stays = "restore an older back-up to go back"

    def __init__(self, bench: Bench, content: bytes) -> None:
        super().__init__(bench.client)
        self._content = content
        self._held = ""
        self._return = Return(bench)

    async def look(self) -> RestoreState:
        return RestoreState(self._held)

    def wanted(self, now: RestoreState) -> RestoreState:
        return RestoreState(hashlib.sha256(self._content).hexdigest())

    async def apply(self, now: RestoreState, wanted: RestoreState) -> None:
        await self._return.know()
        where = maintenance.parse_upload(await self.client.call("tds", maintenance.start_restore()))
        _, gone_s = await _sent(self.client, where, self._content)
        try:
            await self._return.wait(gone_s, must_go=False)
        except AddressTakenError:
            raise DeviceError(
                "it is back, and does not take its password of now: it has that of the back-up's time; `zentrale register` "
                "tries its former ones"
            ) from None
        self._held = wanted.digest

    def shown(self, state: RestoreState) -> str:
        return f"back-up {state.digest[:12]}" if state.digest else "as it was"


@dataclass(frozen=True)
class RestartState:
    restarted: bool


class Restart(Step[RestartState]):
    """It is seen to go, and to come back as who it was."""

    name = "restart"
    stays = "nothing was changed by it"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench.client)
        self._return = Return(bench)
        self._done = False

    async def look(self) -> RestartState:
        return RestartState(self._done)

    def wanted(self, now: RestartState) -> RestartState:
        return RestartState(restarted=True)

    async def apply(self, now: RestartState, wanted: RestartState) -> None:
        await self._return.know()
        await self.client.call("tds", network.reboot())
        await self._return.wait(_PATIENCE_S, must_go=True)
        self._done = True

    def shown(self, state: RestartState) -> str:
        return "restarted" if state.restarted else "running"


class Return:
    """Waiting for a device that goes away. `know` beforehand who it is."""

    def __init__(self, bench: Bench) -> None:
        self._bench = bench
        self._whereabouts: Whereabouts | None = None

    async def know(self) -> None:
        client, seen = self._bench.client, self._bench.seen
        macs = Identity.of([i.mac for i in await client.interfaces()]).macs
        self._whereabouts = Whereabouts(client, Identity(macs, endpoint=seen.own_endpoint))

    async def wait(self, within_s: float, *, must_go: bool) -> None:
        """Raises DeviceError where it does not go, or UnreachableError where it does not come back in time."""
        assert self._whereabouts is not None
        client = self._bench.client
        loop = asyncio.get_running_loop()
        gone = await self._gone(client, min(_GONE_WITHIN_S, within_s))
        if not gone and must_go:
            raise DeviceError(f"it said OK, and was there all the time for {min(_GONE_WITHIN_S, within_s):g} s")
        end = loop.time() + within_s
        while True:
            try:
                await self._whereabouts.find([client.host])
            except UnreachableError:
                if loop.time() > end:
                    raise UnreachableError(f"it did not come back within {within_s:g} s") from None
                await asyncio.sleep(2 * _LOOK_EVERY_S)
            else:
                await client.begin_anew()
                return

    async def _gone(self, client: Device, within_s: float) -> bool:
        """Whether it was seen not to answer."""
        loop = asyncio.get_running_loop()
        end = loop.time() + within_s
        while loop.time() < end:
            async with Device(client.url, client.rules, timeout_s=2.0) as other:
                try:
                    await other.read_clock()
                except UnreachableError:
                    return True
                except DeviceError:
                    pass  # a server that is going down may answer anything
            await asyncio.sleep(_LOOK_EVERY_S)
        return False


async def _sent(client: Device, where: Upload, content: bytes) -> tuple[float, float]:
    """The file, where the device wants it. Returns how long it may still tell the old, and how long it may be gone [s]."""
    if not where.uri:
        raise DeviceError("it does not say where the file goes")
    await asyncio.sleep(where.delay_s)
    await transfer.upload(client, where.uri, content)
    return 60.0 + where.down_s, _PATIENCE_S + where.down_s

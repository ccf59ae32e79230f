"""A port's power taken away and given back, where the camera was seen: the restart for a camera that answers nobody any more.

Nothing is switched where it is not proved which row of the switch's tables is the port, where more than one device hangs on
it, or where a switch, a recorder or this laptop does; a person may name the port and say so all the same. However the work
ends, the power goes back on; where the program is killed, the journal knows, and the next command gives it back.
"""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

from zentrale import quantities
from zentrale.errors import DeviceError, InputError, NotAskedError, NotOfferedError, RefusedError, UnsureError
from zentrale.field.adapters import own_macs
from zentrale.field.snmp import Snmp
from zentrale.field.sweep import sweep
from zentrale.findings import Finding, finding
from zentrale.jobs.checks.resolving import resolve
from zentrale.jobs.checks.seen import Unresolved
from zentrale.jobs.discovery.discovering import SEEN_KIND, last_devices
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.maintaining.turns import Turned, in_turn
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams.measuring import PICTURE_WITHIN_S, measure
from zentrale.jobs.switches.asking import PORT_POWER, Asked, Progress, ask_all, askable, opened
from zentrale.jobs.switches.checking import speak_to
from zentrale.jobs.switches.places import Places, Port, known_macs, places
from zentrale.jobs.switches.power_back import OFF, ON, STEP, Dark, state_of, still_dark
from zentrale.logbook.evidence import Notes, latest, note
from zentrale.planning.network import NetworkPlan
from zentrale.protocols.mib import tables
from zentrale.protocols.mib.power import DELIVERING, DETECTION
from zentrale.site.model import Camera
from zentrale.subjects import Kind, Ref
from zentrale.words import meant

COMMAND = "network restart"
OFF_S = 5.0  # long enough for what a supply holds to run out
_EVERY_S = 0.5
BACK_S, BACK_802_1X_S = 120.0, 240.0
_UNSURE = "its power is on now, and whether it was off is not known: look at the device, or try again"


@dataclass(frozen=True)
class Restarted:
    """`problem` empty: it is back and plays. `refused`: nothing was switched, and `problem` says what would prove or allow it."""

    ref: Ref
    place: str
    problem: str = ""
    refused: bool = False
    back_s: float | None = None
    plays_s: float | None = None
    note: str = ""

    def findings(self) -> list[Finding]:
        if not self.problem:
            return []
        if self.refused:
            return [finding("SWI-24", self.ref, self.problem, "its power off and on", "RFC 3621")]
        return [
            finding("SWI-25", self.ref, f"{self.place}: {self.problem}", "back, and playing", "IEEE 802.3 clause 33")
        ]


class PortPower:
    """The caller holds the lock of the site. `say` hears what is being done."""

    def __init__(self, net: NetworkPlan, keyring: Keyring, say: Callable[[str], None]) -> None:
        assert keyring.vault is not None
        self.net, self.plan, self.keyring = net, net.plan, keyring
        self.vault, self.logbook = keyring.vault, keyring.logbook
        self._say = say
        self._asked: list[Asked] = []
        self._run = 0
        self.places = Places({}, {}, {}, {})

    async def look(self, progress: Progress) -> None:
        """Where everything is now, and which rows are which ports. Raises InputError where no switch can be asked."""
        switches, spoken = askable(self.plan), asyncio.create_task(speak_to(self.net, self.logbook))
        self._asked = await ask_all(
            self.plan, switches, self.vault, progress, wanted=PORT_POWER, rates=False, spoken=spoken
        )
        self.places = places(self.net, self._asked, known_macs(self.plan, self.logbook))

    @property
    def unread(self) -> list[Asked]:
        return [one for one in self._asked if one.seen is None]

    def where(self, camera: Camera) -> Port | None:
        """Where it was heard; a camera that died long ago is heard nowhere any more."""
        found = self.places.of(self.plan.device_of(camera).name)
        return found[0] if len(found) == 1 else None

    def objections(self, place: Port) -> list[str]:
        """Why a person has to confirm it: what else would lose its power."""
        row, macs = self.net.ports.at(*place), self.places.at.get(place, ())
        found = []
        one = next((a for a in self._asked if a.name == place[0]), None)
        if one is not None and one.seen is not None and not one.seen.addresses_told:
            found.append("the switch does not tell who hangs on it")
        if place in self.places.links or row.kind == "link":
            found.append(f"it leads to {self.places.links.get(place) or row.device}")
        owners = {self.places.owner[mac] for mac in macs if mac in self.places.owner}
        recorders = owners & {r.name for r in self.plan.recorders}
        if recorders or row.kind == "recorder":
            found.append(f"recorder {next(iter(recorders), row.device)} hangs on it")
        if any(mac in own_macs() for mac in macs):
            found.append("this laptop hangs on it")
        if len(macs) > 1:
            found.append(f"{len(macs)} MAC addresses are heard there")
        if row.kind in ("viewer", "access point"):
            found.append(f"it is for {row.kind} {row.device}")
        return found

    def row(self, place: Port) -> tuple[Dark | None, str]:
        """The PoE row of a port; or why it is not proved, and what would prove it."""
        one = next((a for a in self._asked if a.name == place[0]), None)
        if one is None or one.seen is None:
            return (
                None,
                f"switch {place[0]} was not read: {one.problem if one else 'the plan does not say how it is asked'}",
            )
        numbering, kind = one.seen.numbering, one.switch.type
        for disagree, key in ((numbering.disagree, "first_index"), (numbering.poe_disagree, "first_poe_index")):
            if place[1] in disagree:
                return (
                    None,
                    f"which row is port {place[1]} is not sure: {disagree[place[1]]}; correct {key} of {kind} in types.toml",
                )
        if place[1] in numbering.poe:
            return Dark(*place, numbering.poe[place[1]]), ""
        if not one.seen.poe_rows:
            return None, f"switch {place[0]} does not tell PoE (POWER-ETHERNET-MIB)"
        return None, (
            f"nothing proves which PoE row is port {place[1]}: first_poe_index of {kind} in types.toml would; plug one device in "
            "and look which row of pethPsePortDetectionStatus changes"
        )

    async def restart(self, cameras: Sequence[Camera]) -> Turned[Restarted]:
        """In turn: one of a switch at a time, never two that watch the same ground."""
        found = self._seen()
        with self._running([c.name for c in cameras]):
            return await in_turn(self.plan, cameras, lambda c: self._camera(c, found))

    async def restart_port(self, place: Port) -> Restarted:
        """A port that a person named and, where there are objections, confirmed."""
        ref = Ref(Kind.SWITCH, place[0], f"port {place[1]}")
        owners = {self.places.owner[mac] for mac in self.places.at.get(place, ()) if mac in self.places.owner}
        # Nobody is heard at a dark port: then it is whom the plan has there.
        there = owners or {self.net.ports.at(*place).device}
        camera = next((c for c in self.plan.camera_devices if there == {c.name}), None)
        found = self._seen()
        with self._running([f"{place[0]}:{place[1]}"]):
            return await self._port(ref, place, camera, found)

    def _seen(self) -> dict[str, FoundDevice]:
        """Devices as they were seen last, also those that the last discovery did not find: a dark camera was seen before."""
        if not self.logbook.runs("discover"):
            return {}
        ever = {ref.name: FoundDevice.from_document(o.content) for ref, o in latest(self.logbook, SEEN_KIND).items()}
        return {**ever, **last_devices(self.plan, self.logbook)}

    @contextmanager
    def _running(self, what: list[str]) -> Iterator[None]:
        with self.logbook.running(COMMAND, socket.gethostname(), {"ports": what}) as self._run:
            yield

    async def _camera(self, camera: object, found: dict[str, FoundDevice]) -> tuple[Restarted, bool]:
        assert isinstance(camera, Camera)
        ref, place = ref_of(camera), self.where(camera)
        if place is None:
            return Restarted(ref, "", self._not_seen(camera), refused=True), True
        if objections := self.objections(place):
            text = f"it is at {place[0]}:{place[1]}, and {'; '.join(objections)}"
            how = f"`zentrale network restart --port {place[0]}:{place[1]}` does it all the same"
            return Restarted(ref, f"{place[0]}:{place[1]}", f"{text}; {how}", refused=True), True
        result = await self._port(ref, place, camera, found)
        return result, result.refused or result.back_s is not None

    def _not_seen(self, camera: Camera) -> str:
        seen = self.places.of(self.plan.device_of(camera).name)
        if seen:
            return f"it is heard at {' and '.join(f'{s}:{p}' for s, p in seen)}; name the one with --port"
        unread = f" (not read: {', '.join(a.name for a in self.unread)})" if self.unread else ""
        planned = (
            f"`zentrale network restart --port {camera.switch}:{camera.port}`"
            if camera.switch and camera.port
            else "--port"
        )
        return f"no switch hears its MAC address{unread}; if you know where it is plugged in: {planned}"

    async def _port(self, ref: Ref, place: Port, camera: Camera | None, found: dict[str, FoundDevice]) -> Restarted:
        where, (dark, why) = f"{place[0]}:{place[1]}", self.row(place)
        if dark is None:
            return Restarted(ref, where, why, refused=True)
        switch = self.plan.switch(place[0])
        try:
            async with opened(self.plan, switch, self.vault, writes=True) as client:
                await self._off_and_on(client, dark)
        except DeviceError as error:
            sure = not isinstance(error, UnsureError) and not self._is_dark(dark)
            return Restarted(ref, where, str(error), refused=sure)
        self._say(f"{where}: power is on again; waiting for {camera.name if camera else 'what hangs on it'}")
        if camera is None:
            return Restarted(
                ref, where, back_s=0.0, note="power is on again; the plan knows no camera there to wait for"
            )
        return await self._back(ref, where, camera, found.get(camera.name), self.net.ports.at(*place).authentication)

    async def _off_and_on(self, client: Snmp, dark: Dark) -> None:
        """Raises DeviceError where nothing was switched, or the power could not be given back; UnsureError where nobody knows
        whether the port was off.
        """
        admin, detection = (tables.POE_PORTS.cell(name, dark.row) for name in ("admin", "detection"))
        state, gives = await client.get([admin, detection])
        if state is None:
            raise DeviceError("the switch does not have this row any more")
        if state == ON and gives != DELIVERING:
            words = DETECTION.get(gives, "not told") if isinstance(gives, int) else "not told"
            raise DeviceError(
                f"the port gives no power ({words}): nothing is there, or it is fed otherwise; nothing was switched"
            )
        ref = Ref(Kind.SWITCH, dark.switch, f"port {dark.port}")
        states = state_of(dark, on=True), state_of(dark, on=False)
        before = "on" if state == ON else "off"
        change = self.logbook.begin_change(self._run, ref, STEP, before, f"off for {OFF_S:g} s, then on", states)
        failed: DeviceError | None = None
        try:
            if state == ON:
                await self._off(client, dark, admin, detection)
        except DeviceError as error:
            failed = error
        finally:
            # Also where somebody pressed Ctrl-C: what was taken is given back before anything else.
            back = asyncio.ensure_future(self._on(client, admin))
            try:
                problem = await asyncio.shield(back)
            except asyncio.CancelledError:
                problem = await back
            if problem:
                self.logbook.end_change(change, problem)
            else:
                self.logbook.end_change(
                    change, str(failed or ""), after="on again", after_state=state_of(dark, on=True)
                )
        if problem:
            raise DeviceError(f"its power could not be given back: {problem}; the next command tries again")
        if failed is not None:
            raise failed

    async def _off(self, client: Snmp, dark: Dark, admin: tables.Oid, detection: tables.Oid) -> None:
        """Off for a while, and seen to be. Raises DeviceError where it was not, UnsureError where that was not to be seen."""
        self._say(f"{dark}: power off")
        try:
            await client.set(admin, OFF)
        except (RefusedError, NotOfferedError) as error:
            raise DeviceError(f"{error}; nothing was restarted") from None
        except DeviceError as error:
            raise UnsureError(f"told to take the power away: {error}; {_UNSURE}") from None
        await asyncio.sleep(OFF_S)
        try:
            state, gives = await client.get([admin, detection])
        except DeviceError as error:
            raise UnsureError(f"asked whether the power is off: {error}; {_UNSURE}") from None
        if state != OFF or gives == DELIVERING:
            raise DeviceError("the switch says OK, and gives power all the same; nothing was restarted")

    async def _on(self, client: Snmp, admin: tables.Oid) -> str:
        """What went wrong, empty where it is on."""
        problem = ""
        for turn in range(4):
            try:
                if (await client.get([admin]))[0] == ON:
                    return ""
                problem = "the switch says OK, and leaves it off" if turn else ""
                await client.set(admin, ON)
            except DeviceError as error:
                problem = str(error)
            if turn > 1:
                await asyncio.sleep(1.0)
        return problem

    def _is_dark(self, dark: Dark) -> bool:
        return any((d.switch, d.port) == (dark.switch, dark.port) for d in still_dark(self.logbook))

    async def _back(
        self, ref: Ref, where: str, camera: Camera, seen: FoundDevice | None, authentication: str
    ) -> Restarted:
        """Waits until it answers at its address, then until it plays. A port that asks who is there takes longer."""
        loop = asyncio.get_running_loop()
        begun, within = loop.time(), BACK_S if authentication == "none" else BACK_802_1X_S
        slow = (
            "" if authentication == "none" else f"; its port asks who is there ({authentication}), which takes longer"
        )
        host = seen.address if seen is not None else camera.host
        if not host:
            return Restarted(
                ref, where, "power is on again; where it answers is not known, so it was not waited for", back_s=0.0
            )
        while not (await sweep([host], self.plan.policy.sweep_ports, lambda _: None)).open:
            if loop.time() - begun > within:
                return Restarted(
                    ref, where, f"power is on again, and it did not answer at {host} within {within:g} s{slow}"
                )
            await asyncio.sleep(_EVERY_S)
        back_s = loop.time() - begun
        while True:
            problem, known = await self._plays(camera, seen)
            if not problem:
                return Restarted(ref, where, back_s=back_s, plays_s=loop.time() - begun, note=slow.lstrip("; "))
            if not known:
                return Restarted(
                    ref, where, back_s=back_s, note=f"it is back; whether it plays is not known: {problem}"
                )
            if loop.time() - begun > within:
                text = f"it answers after {quantities.seconds(back_s)}, and does not play: {problem}{slow}"
                return Restarted(ref, where, text, back_s=back_s)
            await asyncio.sleep(2 * _EVERY_S)

    async def _plays(self, camera: Camera, seen: FoundDevice | None) -> tuple[str, bool]:
        """What keeps its main stream from playing, empty where it plays; and whether that is the camera's own doing: one that
        does not let us in says nothing of its stream.
        """
        try:
            target = await resolve(self.keyring, camera, seen)
            if isinstance(target, Unresolved):
                return target.reason, False
            address = target.streams.get("main") or next(iter(target.streams.values()), None)
            if address is None:
                return "it tells no stream", True
            result = await measure(ref_of(camera), "", address, target.visit, PICTURE_WITHIN_S, until_picture=True)
        except DeviceError as error:
            return str(error), not isinstance(error, RefusedError | NotAskedError)
        return result.error, not isinstance(result.cause, RefusedError | NotAskedError)

    def note(self, results: Sequence[Restarted]) -> None:
        notes = Notes()
        for result in results:
            notes.judge(result.ref, {"SWI-24", "SWI-25"}, result.findings())
        note(self.logbook, self._run, notes)


def port_named(net: NetworkPlan, text: str) -> Port:
    """SWITCH:PORT as typed. Raises InputError."""
    switch, colon, port = text.rpartition(":")
    names = [s.name for s in net.plan.switches]
    if not colon or not port.isascii() or not port.isdigit():
        raise InputError(f"--port {text}: not a port", "expected SWITCH:PORT, such as pump-house:7")
    if switch not in names:
        raise InputError(
            f"--port {text}: no switch {switch} in the plan{meant(switch, names)}",
            f"expected one of: {', '.join(names)}",
        )
    most = net.plan.switch_type(net.plan.switch(switch)).ports
    if not 1 <= int(port) <= most:
        raise InputError(f"--port {text}: {switch} has ports 1 to {most}", "correct the number")
    return switch, int(port)

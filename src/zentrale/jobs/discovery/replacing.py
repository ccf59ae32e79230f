"""Another device for a camera's place, and a camera that goes: what was written of it stays, under its name."""

from __future__ import annotations

import socket
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from zentrale import quantities
from zentrale.errors import DeviceError, InputError, NotOfferedError
from zentrale.jobs.discovery.assigning import check_name, named
from zentrale.jobs.discovery.discovering import current_devices, last_devices
from zentrale.jobs.discovery.matching import matched
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.selection import check_reachable
from zentrale.jobs.known.step_form import Outcome
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.channel_step import Channel
from zentrale.jobs.recorders.passes import Passes
from zentrale.jobs.recorders.recorder_registry import driver_of, opened
from zentrale.jobs.steps.runner import StepRunner
from zentrale.logbook.evidence import Judged, Notes, note, standings
from zentrale.logbook.store import Binding, Logbook
from zentrale.logbook.vault import Vault
from zentrale.site.camera_file import camera_columns, camera_file_text, read_camera_rows
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Camera, Plan, Recorder
from zentrale.site.reading import read_plan

REPLACE, REMOVE = "replace", "remove"


@dataclass(frozen=True)
class Replaced:
    """What the device before was, and what it is now; which cells of cameras.csv were changed."""

    before: str
    after: str
    address: str
    cells: Mapping[str, str]
    old_password: str
    other_model: str = ""  # what it is, where it is of another model than planned


@dataclass(frozen=True)
class Removed:
    """How the channel was freed, or who has to free it."""

    channel: str
    freed: bool


def replace_camera(
    plan: Plan, folder: SiteFolder, logbook: Logbook, vault: Vault | None, name: str, device: str
) -> Replaced:
    """The found device takes over the camera's place, channel, settings, name and history. Raises InputError.

    Its row names the new MAC address and serial number from now on, where it named the old ones. The password of the old device
    stays in the vault under another name. A device with several lenses is replaced whole.
    """
    camera = plan.device_of(_camera(plan, name))
    check_reachable(plan, camera.name)
    name = camera.name
    found = current_devices(logbook)
    fits = named(device, found)
    if len(fits) != 1:
        have = ", ".join(d.address for d in found) or "nothing"
        raise InputError(
            f"{device}: {'no' if not fits else 'more than one'} device of the last discovery", f"found: {have}"
        )
    new = fits[0]
    other = matched(plan, logbook, found).name_of(new)
    if other not in ("", name):
        raise InputError(f"{device}: is {other} already", f"give the device that takes the place of {name}")
    mac = next(iter(sorted(new.identity.macs)), "")
    known = next((k for k in logbook.known() if k.name == name), None)
    before = _said(known.identity.macs if known else {camera.mac or ""}, known.host if known else camera.host)
    after = _said({mac}, new.address)
    cells = _new_cells(camera, mac, new.serial)
    rows = [lens.name for lens in plan.lenses(camera)]
    text = _text(folder, rows, cells)  # before anything is changed: what is wrong with it is told now
    with logbook.running(REPLACE, socket.gethostname(), {"camera": name, "device": new.address}) as run:
        change = logbook.begin_change(run, ref_of(camera), "device", before, after)
        kept = _keep_password(vault, name)
        with logbook.transaction():
            logbook.forget(name)
        logbook.bind(Binding(name, mac, new.address))
        if cells:
            write_atomically(folder.cameras_file, text)
        logbook.end_change(change)
    kind = plan.camera_type(camera)
    words = f"{new.maker} {new.model}".strip()
    other_model = words if new.model and (new.maker or kind.maker, new.model) != (kind.maker, kind.model) else ""
    return Replaced(before, after, new.address, cells, kept, other_model)


def _said(macs: set[str] | frozenset[str], address: str) -> str:
    text = ", ".join(sorted(m for m in macs if m)) or "MAC address not known"
    return f"{text} at {address or 'no address'}"


def _new_cells(camera: Camera, mac: str, serial: str) -> dict[str, str]:
    """What its row said of the old device alone, as the new one has it."""
    cells: dict[str, str] = {}
    if camera.mac or camera.mac_end:
        cells["mac"] = mac
    if camera.mac_end:
        cells["mac_end"] = ""
    if camera.serial:
        cells["serial"] = serial
    return cells


def _keep_password(vault: Vault | None, name: str) -> str:
    """The old device's password under a name of its own; that name, or nothing where it has none."""
    if vault is None or vault.device(name) is None:
        return ""
    kept = f"{name} before {quantities.now():%Y-%m-%d %H:%M:%S}"
    vault.rename_device(name, kept)
    return kept


async def remove_camera(plan: Plan, folder: SiteFolder, keyring: Keyring, name: str, *, by_hand: bool) -> Removed:
    """Off its channel, its entry closed, its history kept. Nothing is changed where the channel cannot be freed.

    by_hand: somebody has freed the channel at the recorder. Raises InputError, DeviceError.
    """
    camera, logbook = _camera(plan, name), keyring.logbook
    if len(plan.cameras) == 1:
        raise InputError(f"{name}: the last camera of the plan", "a plan holds one at least")
    text = _text(folder, [name], None)  # before its channel is freed
    with logbook.running(REMOVE, socket.gethostname(), {"camera": name}) as run:
        if by_hand:
            removed = Removed(f"channel {camera.channel} of {camera.recorder}: freed by hand, as said", freed=True)
        else:
            removed = await _free_channel(plan, keyring, run, camera)
        change = logbook.begin_change(run, ref_of(camera), "entry", "in the plan", "removed")
        write_atomically(folder.cameras_file, text)
        _pass_on(plan, keyring, camera)
        with logbook.transaction():
            logbook.forget(name)
            logbook.unbind(name)
        notes = Notes()
        for standing in standings(logbook):
            ref = standing.finding.ref
            if ref is not None and ref.name == name and standing.settled_by is None:
                notes.judged.append(Judged(ref, frozenset({standing.finding.code})))
        note(logbook, run, notes)
        logbook.end_change(change)
    return removed


def _pass_on(plan: Plan, keyring: Keyring, camera: Camera) -> None:
    """Where the row stood for a device whose other lenses stay, one of them stands for it now."""
    name, others = camera.name, [c for c in plan.lenses(camera) if c.name != camera.name]
    if not others or plan.device_of(camera) is not camera:
        return
    heir, logbook = min(others, key=lambda c: c.source or 0).name, keyring.logbook
    if keyring.vault is not None:
        keyring.vault.rename_device(name, heir)
    for known in [k for k in logbook.known() if k.name == name]:
        logbook.remember(replace(known, name=heir))
    for bound in [b for b in logbook.bindings() if b.name == name]:
        logbook.bind(replace(bound, name=heir))


async def _free_channel(plan: Plan, keyring: Keyring, run: int, camera: Camera) -> Removed:
    recorder = next(r for r in plan.recorders if r.name == camera.recorder)
    where = f"channel {camera.channel} of {recorder.name}"
    driver = driver_of(plan, recorder)
    if camera.behind:
        return Removed(f"{where}: takes in what stands at its own port {camera.port}: unplug it there", freed=False)
    if not driver.has_service:
        return Removed(f"{where}: free it in the recorder's own page; no service does it", freed=False)
    seen = last_devices(plan, keyring.logbook).get(recorder.name)
    if seen is None or not seen.url:
        raise DeviceError(f"{where}: the last discovery did not find {recorder.name}; nothing was changed")
    try:
        return await _freed(keyring, run, camera, seen, recorder)
    except DeviceError as error:
        raise DeviceError(f"{where}: {error}; nothing was changed in the plan") from None


async def _freed(keyring: Keyring, run: int, camera: Camera, seen: FoundDevice, recorder: Recorder) -> Removed:
    where = f"channel {camera.channel} of {recorder.name}"
    async with entered(keyring, seen, recorder) as client:
        step = opened(keyring, recorder, client, writes=True).give(
            camera, "", Passes(keyring.contents.fingerprint, None)
        )
        assert isinstance(step, Channel)
        now = await step.look()
        if not now.url:
            return Removed(f"{where}: it was free already", freed=True)
        if now.camera != camera.name:
            return Removed(f"{where}: it records {now.camera or now.url}, and was left as it is", freed=True)
        runner = StepRunner(keyring.logbook, run, ref_of(camera), lambda _: keyring.ready(), dry_run=False)
        kept = await _recorded(step, camera)
        good = await runner.change(step, now, step.freed(), step.apply)
        last = runner.result().steps[-1]
        if not good or last.outcome is not Outcome.CHANGED:
            raise DeviceError(f"it was not freed: {last.error or last.after}")
        return Removed(f"{where}: freed; {kept}", freed=True)


async def _recorded(step: Channel, camera: Camera) -> str:
    """What stays on the channel of the camera that leaves it, in words."""
    try:
        stored = await step.channels.stored(step.held.item)
    except NotOfferedError:
        return f"what was recorded of {camera.name} until now stays there"
    if stored.earliest is None or stored.latest is None:
        return f"nothing was recorded of {camera.name}"
    first, last = (quantities.moment(at) for at in (stored.earliest, stored.latest))
    return f"what was recorded of {camera.name} from {first} to {last}, by the recorder's clock, stays there"


def _camera(plan: Plan, name: str) -> Camera:
    check_name(plan, name)
    camera = next((c for c in plan.cameras if c.name == name), None)
    if camera is None:
        raise InputError(f"{name}: is a recorder", "expected the name of a camera")
    return camera


def _text(folder: SiteFolder, names: Sequence[str], cells: Mapping[str, str] | None) -> bytes:
    """cameras.csv with other cells in these rows, or without them (None). Raises PlanError where no plan comes of it."""
    rows, comments = read_camera_rows(folder.cameras_file)
    if cells is None:
        rows = {other: row for other, row in rows.items() if other not in names}
    else:
        rows |= {name: {**rows[name], **cells} for name in names}
    text = camera_file_text(rows, comments, camera_columns(folder.cameras_file))
    read_plan(folder, text)
    return text.encode("utf-8")

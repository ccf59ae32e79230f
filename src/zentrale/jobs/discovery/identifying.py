"""Asking one device who it is: its identity, its state, and which credentials open it. Nothing is changed on it."""

from __future__ import annotations

import logging
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace

from zentrale.errors import (
    CertificateError,
    DeviceError,
    LockedError,
    LostError,
    MachineError,
    NotOfferedError,
    RefusedError,
    RemoteProtocolError,
    TroubleError,
    UnknownServiceError,
    UnreachableError,
)
from zentrale.field.device import Device
from zentrale.field.sweep import speaks_rtsp
from zentrale.field.web_page import web_page
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import USUAL_RTSP_PORTS, FoundDevice
from zentrale.jobs.known.planned import whole_devices
from zentrale.jobs.passwords.access import Claim, device_maker, find_entry, who_it_is
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.logbook.store import Logbook
from zentrale.protocols.addresses import bracketed
from zentrale.protocols.onvif.device import SERVICE_PATH
from zentrale.site.identity import Identity
from zentrale.site.model import Camera, Plan, Recorder

log = logging.getLogger(__name__)
_MAX_NOTE = 300


@dataclass(frozen=True)
class Expected:
    """Which names of the plan a device may have, before it lets anybody in: by address, binding, and what was known."""

    plan: Plan | None
    bindings: Sequence[tuple[str, str, str]]
    known: Sequence[tuple[str, Identity, str]]
    neighbours: Mapping[str, str]

    @classmethod
    def of(cls, plan: Plan | None, logbook: Logbook, neighbours: Mapping[str, str]) -> Expected:
        bindings = [(b.name, b.mac, b.address) for b in logbook.bindings()]
        known = [(k.name, k.identity, k.host) for k in logbook.known()]
        return cls(plan, bindings, known, neighbours)

    def identity(self, device: FoundDevice) -> Identity:
        """What is known of it from outside."""
        mac = self.neighbours.get(device.address, "")
        return device.identity.joined(Identity.of([mac] if mac else []))

    def names(self, device: FoundDevice) -> list[str]:
        """The likeliest first."""
        identity = self.identity(device)
        planned = whole_devices(self.plan) if self.plan else {}
        names = [n for n, mac, _ in self.bindings if mac and mac in identity.macs]
        names += [n for n, p in planned.items() if p.mac and p.mac in identity.macs]
        names += [n for n, known, _ in self.known if known.same_device(identity)]
        names += [n for n, _, address in self.bindings if address == device.address]
        names += [n for n, p in planned.items() if p.reached_at(device.address, device.port)]
        names += [n for n, known, host in self.known if host == device.address and known.same_device(identity) is None]
        return list(dict.fromkeys(names))

    def planned(self, device: FoundDevice) -> Camera | Recorder | None:
        """The planned device that this one most likely is."""
        planned = whole_devices(self.plan) if self.plan else {}
        return next((planned[n] for n in self.names(device) if n in planned), None)


async def identify(
    device: FoundDevice, expected: Expected, keyring: Keyring, orphans: Sequence[str] = ()
) -> FoundDevice:
    """Ask it who it is. What it does wrong becomes its state and a note."""
    await keyring.ready()
    notes: list[str] = []
    failing = unsafe = closed = False
    for url in _urls(device):
        patience_s = _PATIENCE_S if url == device.url and device.method != "planned" else 0.0
        try:
            return await _ask_who(replace(device, url=url), expected, keyring, orphans, patience_s)
        except MachineError:
            raise
        except LockedError as error:
            again = error.until.isoformat()
            return replace(device, url=url, state=State.LOCKED.value, note=error.what, again_at=again)
        except CertificateError as error:
            unsafe = True
            notes.append(f"{error.what}; {error.advice}")
        except UnknownServiceError as error:
            closed = True
            notes.append(error.what)
        except RefusedError as error:  # it answered, and wants what we do not have: that is neither late nor wrong
            return replace(device, url=url, state=State.UNKNOWN_PASSWORD.value, note=error.what)
        except UnreachableError as error:
            # The other scheme is only a guess; and what breaks every connection off is no slow device.
            failing = failing or (url == device.url and not isinstance(error, LostError))
            notes.append(error.what)
        except TroubleError as error:
            failing = True
            notes.append(error.what)
            break
        except RemoteProtocolError as error:
            notes.append(error.what)
        except DeviceError as error:
            failing = True
            notes.append(error.what)
            break  # it answered as ONVIF does: the scheme was right
        log.info("%s: %s", url, notes[-1])
    planned_row = expected.planned(device)
    planned_port = planned_row.rtsp_port if isinstance(planned_row, Camera) else None
    usual = [p for p in device.open_ports if p in USUAL_RTSP_PORTS]
    ports = list(dict.fromkeys([*([planned_port] if planned_port else []), *device.rtsp_ports, *usual]))
    rtsp = [p for p in ports if await speaks_rtsp(device.address, p)]
    if _told_itself(device) and not device.url:
        notes.insert(0, "it answers the probe, but tells no address of its service")
    state = State.UNSAFE if unsafe else State.FAILING if failing else State.RTSP_ONLY if rtsp else State.NO_ANSWER
    if state is State.NO_ANSWER and closed:
        return replace(device, url="", state=State.WEB_ONLY.value, note=notes[0][:_MAX_NOTE])
    if state is State.NO_ANSWER and device.url:
        page = await web_page(device.url)
        if page is not None:
            state, notes = State.WEB_ONLY, [f"{page} answers, and no ONVIF"]
    if rtsp:
        device = replace(device, rtsp_ports=tuple(dict.fromkeys((*rtsp, *device.rtsp_ports))))
    if usual and not rtsp:
        notes.append(f"port {usual[0]} is open, but does not answer as RTSP")
    keep = unsafe or _told_itself(device)
    return replace(device, url=device.url if keep else "", state=state.value, note="; ".join(notes)[:_MAX_NOTE])


def _urls(device: FoundDevice) -> list[str]:
    """The address told by the probe; a port found by the sweep is tried with TLS too, since some devices do no other."""
    if not device.url:
        # It answered the probe, and told no address of its service even when asked for it: the usual one is tried.
        told_none = bool(device.endpoint)
        return [f"http://{bracketed(device.address)}{SERVICE_PATH}"] if told_none else []
    if _told_itself(device):
        return [device.url]
    scheme, _, rest = device.url.partition("://")
    return [device.url, f"{'http' if scheme == 'https' else 'https'}://{rest}"]


def _told_itself(device: FoundDevice) -> bool:
    """Whether it answered a probe, by multicast or sent to it alone."""
    return bool(device.endpoint) or device.method.startswith("probe")


async def _ask_who(
    device: FoundDevice, expected: Expected, keyring: Keyring, orphans: Sequence[str], patience_s: float
) -> FoundDevice:
    planned = expected.planned(device)
    async with Device(
        device.url, keyring.rules(planned), endpoint=device.own_endpoint, patience_s=patience_s
    ) as client:
        told_clock = await client.read_clock()
        if not told_clock and not client.speaks_soap and planned is None and not _told_itself(device):
            raise UnknownServiceError(
                "a web server that asks for a password for everything, and does not tell what it is"
            )
        offset_s = round(client.clock_offset.total_seconds(), 1)
        device = replace(device, url=client.url, clock_offset_s=offset_s if told_clock else None)
        maker = await device_maker(client) or _maker_of_model(expected.plan, device.model)
        if isinstance(planned, Camera) and expected.plan and not expected.plan.camera_type(planned).onvif:
            note = "planned as RTSP only, so no password was tried over ONVIF"
            return replace(device, maker=maker, state=State.RTSP_ONLY.value, note=note)
        names = expected.names(device)
        claim = Claim(names, maker, expected.identity(device), planned, orphans, strict=False, thorough=False)
        entry = await find_entry(client, keyring, claim, names[0] if names else device.address)
        device = replace(
            device, maker=maker or device.maker, state=entry.state.value, credentials_label=entry.label, note=entry.in_words(),
            again_at=entry.until.isoformat() if entry.until else "", other=entry.other,
        )  # fmt: skip
        if not entry.closed:
            if not told_clock:
                await client.system_time()  # it told its clock to nobody without credentials
                device = replace(device, clock_offset_s=round(client.clock_offset.total_seconds(), 1))
            information = await client.information()
            told = await who_it_is(client)
            macs = told.macs
            if names and not device.other:
                device = replace(device, other=keyring.contradiction(names[0], told, told))
            device = replace(
                device, maker=information.maker, model=information.model, firmware=information.firmware,
                serial=information.serial, mac=min(macs, default=""), macs=tuple(sorted(macs)),
            )  # fmt: skip
            if planned is None:
                device = await _with_offers(client, device)
        named = (f"{host} ({what})" for host, what in client.named_hosts.items())
        return replace(device, named_hosts=tuple(dict.fromkeys((*device.named_hosts, *named))))


async def _with_offers(client: Device, device: FoundDevice) -> FoundDevice:
    """What a device that nobody planned can do, for a type of its own. One that does not tell is as it was."""
    try:
        with suppress(NotOfferedError):
            await client.service_address("trv")
            return replace(device, records=True)
        encoders = [(p.token, p.encoder) for p in await client.media.profiles() if p.encoder is not None]
        if not encoders:
            return device
        token, now = max(encoders, key=lambda e: (e[1].width_px * e[1].height_px, e[0]))
        options = await client.media.encoder_options(token, now.token)
    except MachineError:
        raise
    except DeviceError as error:
        log.info("%s: does not tell what it can do: %s", device.address, error.what)
        return device
    sizes = [size for offered in options.values() for size in offered.resolutions]
    rates = [rate for offered in options.values() for rate in offered.fps]
    most = [offered.bitrate_kbps[1] for offered in options.values() if offered.bitrate_kbps is not None]
    return replace(
        device, codecs=tuple(codec for codec in _CODECS if codec in (options or (now.codec,))),
        max_resolution=max(sizes, key=lambda s: s[0] * s[1], default=(now.width_px, now.height_px)),
        max_fps=max(rates, default=0.0), max_bitrate_kbps=max(most, default=0),
    )  # fmt: skip


_CODECS = ("H264", "H265", "JPEG")  # those that a plan may ask for
_PATIENCE_S = 15.0  # one that answered a moment ago, and is gone: it restarts its web server


def _maker_of_model(plan: Plan | None, model: str) -> str:
    if plan is None or not model:
        return ""
    makers = {t.model: t.maker for t in plan.recorder_types} | {t.model: t.maker for t in plan.camera_types}
    return makers.get(model, "")

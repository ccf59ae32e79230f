"""Bringing one device to plan over ONVIF: password, name, time, encoder settings."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from urllib.parse import quote

from zentrale import quantities
from zentrale.errors import DeviceError, RefusedError
from zentrale.field.device import Device
from zentrale.jobs.access import Entry, find_entry
from zentrale.jobs.found import FoundDevice
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.states import State
from zentrale.jobs.steps import Step
from zentrale.logbook.vault import generate_password
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import device, media
from zentrale.protocols.ws_discovery import scope_value
from zentrale.site.identity import Identity
from zentrale.site.model import Camera, Recorder, StreamPlan
from zentrale.site.timezone import posix_timezone

FIRST_USER = "admin"
NAME_SCOPE = "onvif://www.onvif.org/name/"
_OWN_PASSWORD = "a password of its own, kept in the vault"


class DeviceSteps:
    """The steps for one device, planned as `planned` and found as `seen`; a dry run leaves the vault alone as well."""

    def __init__(self, client: Device, keyring: Keyring, planned: Camera | Recorder, seen: FoundDevice) -> None:
        assert keyring.vault is not None and keyring.plan is not None
        self.client = client
        self.keyring = keyring
        self.vault = keyring.vault
        self.name = planned.name
        self.maker = keyring.plan.maker(planned)
        self.macs = frozenset([planned.mac]) if planned.mac else seen.identity.macs
        self.seen = seen
        self.identity = Identity()

    async def enter(self) -> Entry:
        """Get in with what the vault has for it. Raises DeviceError where the device does not answer properly."""
        await self.client.system_time()
        keys = self.keyring.keys(self.seen.identity, [self.name], self.maker)
        return await find_entry(self.client, self.keyring, keys, self.name)

    async def password(self) -> Step:
        """The vault is written before the device: a run that dies between the two is taken up by the next."""
        entry = await self.enter()
        if entry.closed:
            raise RefusedError(entry.told() if entry.tried == 0 or entry.left else self._advice(entry))
        if entry.state is State.OPEN:
            raise DeviceError(
                "it answers everybody, and who its administrator is cannot be told; "
                + ("turn authentication on in its own page, with the password in the vault"
                   if self.keyring.holds(self.name) else "turn authentication on in its own page, or reset it first")
            )  # fmt: skip
        identity = self.identity = await self._check_identity()
        if entry.state in (State.OUR_PASSWORD, State.KNOWN_PASSWORD):
            assert entry.credentials is not None
            if not self.keyring.dry_run:
                self.vault.set_device(self.name, entry.credentials, identity)
            told = _OWN_PASSWORD if entry.state is State.OUR_PASSWORD else entry.label
            return Step("password", told, told, _nothing)
        user = entry.credentials.user if entry.credentials else FIRST_USER
        own = self.vault.device(self.name)
        wanted = own if own and own.user == user else Credentials(user, generate_password())

        async def apply() -> None:
            self.vault.set_device(self.name, wanted, identity)
            make = device.create_users if entry.state is State.FRESH else device.set_user
            await self.client.call("tds", make(wanted))
            self.client.credentials = wanted
            await self.client.users()

        return Step("password", entry.state.value, _OWN_PASSWORD, apply)

    def _advice(self, entry: Entry) -> str:
        if self.keyring.holds(self.name):
            return (
                f"{entry.told()}: the password in the vault does not open it; was it changed in its own page? Enter that "
                f"with `zentrale vault set {self.name} USER`"
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

    async def label(self) -> Step:
        scopes = await self.client.scopes()
        configurable = [s for kind, s in scopes if kind == "Configurable"]
        told = scope_value(configurable, "name") or scope_value([s for _, s in scopes], "name")
        hostname = await self.client.hostname()

        async def apply() -> None:
            others = [s for s in configurable if not s.startswith(NAME_SCOPE)]
            await self.client.call("tds", device.set_scopes([*others, NAME_SCOPE + quote(self.name)]))
            await self.client.call("tds", device.set_hostname(self.name))

        before = told if told == hostname else f"{told} (host {hostname})"
        return Step("name", before, self.name, apply)

    async def time(self, timezone: str, tolerance_s: float) -> Step:
        wanted = posix_timezone(timezone)
        told = await self.client.system_time()
        offset_s = self.client.clock_offset.total_seconds()
        right = abs(offset_s) <= tolerance_s

        async def apply() -> None:
            moment = device.SystemTime(datetime.now(UTC), wanted, "Manual", daylight_savings="," in wanted)
            await self.client.call("tds", device.set_system_time(moment))
            await self.client.system_time()

        after = f"{timezone}, right"
        if right and told.timezone == wanted:
            return Step("time", after, after, _nothing)
        clock = "right" if right else f"{quantities.seconds(offset_s)} off"
        return Step("time", f"{told.timezone or 'no zone'}, {clock}", after, apply)

    async def encoder(self, stream: str, plan: StreamPlan) -> Step:
        profile = pick_profiles(await self.client.profiles()).get(stream)
        if profile is None or profile.encoder is None:
            raise DeviceError(f"it offers no profile for the {stream} stream")
        now = profile.encoder
        wanted = wanted_encoder(now, plan)

        async def apply() -> None:
            if plan.codec not in ("H264", "JPEG"):
                raise DeviceError(f"the ONVIF media service (ver10) cannot set {plan.codec}; set it in its own page")
            await self.client.call("trt", media.set_encoder(wanted))
            answer = await self.client.call("trt", media.get_encoder(now.token))
            configuration = answer.find("{*}Configuration")
            kept = None if configuration is None else media.parse_encoder(configuration)
            if kept is None or describe_encoder(kept) != describe_encoder(wanted):
                raise DeviceError(f"it took the settings but kept {describe_encoder(kept) if kept else 'none'}")

        return Step(f"{stream} stream", describe_encoder(now), describe_encoder(wanted), apply)


async def _nothing() -> None:
    """The step of a device that is as planned."""


def wanted_encoder(now: media.EncoderSettings, plan: StreamPlan) -> media.EncoderSettings:
    width, height = plan.resolution
    return replace(
        now, codec=plan.codec, width_px=width, height_px=height, fps=plan.fps, bitrate_kbps=round(plan.bitrate_bps / 1000),
        govlength=max(1, round(plan.fps * plan.keyframe_interval_s)),
    )  # fmt: skip


def describe_encoder(settings: media.EncoderSettings) -> str:
    size = quantities.resolution(settings.width_px, settings.height_px)
    text = f"{settings.codec} {size} {settings.fps:g} fps {settings.bitrate_kbps} kbit/s"
    return f"{text} key/{settings.govlength}" if settings.codec == "H264" else text


def pick_profiles(profiles: list[media.Profile]) -> dict[str, media.Profile]:
    """The main and the sub profile: by name where the device names them so, else in the order it lists them."""
    usable = [p for p in profiles if p.encoder is not None]
    picked = {}
    for stream in ("main", "sub"):
        named = [p for p in usable if stream in f"{p.name} {p.token}".lower()]
        if named:
            picked[stream] = named[0]
    if len(picked) < 2:
        picked = dict(zip(("main", "sub"), usable, strict=False))
    return picked

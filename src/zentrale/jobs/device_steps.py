"""Bringing one device to plan over ONVIF: password, name, time, encoder settings."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from urllib.parse import quote

from zentrale import quantities
from zentrale.errors import DeviceError, RefusedError
from zentrale.field.onvif_client import OnvifClient
from zentrale.jobs.access import State, enter
from zentrale.jobs.steps import Step
from zentrale.logbook.vault import Vault, generate_password
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import device, media
from zentrale.protocols.ws_discovery import scope_value
from zentrale.site.model import StreamPlan
from zentrale.site.timezone import posix_timezone

FIRST_USER = "admin"
NAME_SCOPE = "onvif://www.onvif.org/name/"
_OWN_PASSWORD = "a password of its own, kept in the vault"


class DeviceSteps:
    """The steps for one device. `name` is its name in the plan, under which the vault keeps its password; a dry run
    leaves the vault alone as well.
    """

    def __init__(
        self, client: OnvifClient, vault: Vault, name: str, maker: str, mac: str | None, *, dry_run: bool
    ) -> None:
        self.client = client
        self.vault = vault
        self.name = name
        self.maker = maker
        self.mac = mac
        self.dry_run = dry_run

    async def password(self) -> Step:
        """The vault is written before the device: a run that dies between the two is taken up by the next."""
        entry = await enter(self.client, self.vault.contents, self.name, self.maker)
        if entry.state is State.OUR_PASSWORD:
            await self._check_identity()
            return Step("password", _OWN_PASSWORD, _OWN_PASSWORD, _nothing)
        if entry.state is State.KNOWN_PASSWORD:
            await self._check_identity()
            assert entry.credentials is not None
            if not self.dry_run:
                self.vault.set_device(self.name, entry.credentials)
            return Step("password", entry.label, entry.label, _nothing)
        if entry.state is State.UNKNOWN_PASSWORD:
            raise RefusedError("no password in the vault opens it; add the right one with `zentrale vault add`")
        if entry.state is State.OPEN:
            raise DeviceError("it answers everybody, and who its administrator is cannot be told; reset it first")
        await self._check_identity()
        user = entry.credentials.user if entry.credentials else FIRST_USER
        own = self.vault.device(self.name)
        wanted = own if own and own.user == user else Credentials(user, generate_password())

        async def apply() -> None:
            self.vault.set_device(self.name, wanted)
            make = device.create_users if entry.state is State.FRESH else device.set_user
            await self.client.call("tds", make(wanted))
            self.client.credentials = wanted
            await self.client.users()

        return Step("password", entry.state.value, _OWN_PASSWORD, apply)

    async def _check_identity(self) -> None:
        """Never set up the wrong device: addresses move between discovery and registration."""
        macs = {i.mac for i in await self.client.interfaces()}
        if self.mac and self.mac not in macs:
            told = ", ".join(sorted(macs)) or "none"
            raise DeviceError(f"another device answers here: its MAC address is {told}, expected {self.mac}")

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

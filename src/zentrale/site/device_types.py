"""Device types: the values of their data sheets (types.toml)."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, model_validator

from zentrale.site.part import Mode, Part
from zentrale.site.values import Address, Resolution, Text, empty_is_none


class Firmware(Part):
    """The version wanted on devices of a type, as they tell it themselves, and the file that brings it: a path from the site
    folder, with its SHA-256.
    """

    version: Text
    file: str = ""
    sha256: Annotated[str, Field(pattern=r"^([0-9a-fA-F]{64})?$")] = ""


# Power that a device may draw at its own end of the cable, by class: PClass_PD, IEEE 802.3-2022 clauses 33.3.7 (table 33-18)
# and 145.3.8 (table 145-26).
DEVICE_W = (12.95, 3.84, 6.49, 12.95, 25.5, 40.0, 51.0, 62.0, 71.3)


def counted_class(poe_class: int | None, draw_w: float) -> int:
    """The class that is counted: as it is said; else 0, as of a device without one, or the lowest above that takes the draw."""
    if poe_class is not None:
        return poe_class
    return next((c for c in (0, 4, 5, 6, 7, 8) if DEVICE_W[c] >= draw_w), 8)


class CameraType(Part):
    """A data sheet's values. Power is what the device draws at its own end of the cable.

    The lens: `view_deg` is the horizontal angle of view; where it is not given it follows from `sensor_width_mm` and
    `focal_mm`. `onvif` false: it speaks RTSP only, its streams are at `main_path` and `sub_path`.
    `basic_in_clear`: its password may go in clear, since the device knows no digest and no TLS. `max_fps` [frames/s] and
    `max_bitrate_kbps` are those of one stream. `most_w` is what it draws at most when everything in it runs at once.
    `password_length`, `recorder_role`: in place of those of the policy, where it takes no other. Where nobody knows what it
    draws, `day_w` is left out, and the limit of its class counts; `max_resolution` is left out where it has not told it.
    """

    name: Text
    maker: Text
    model: Text
    supply: Literal["poe", "mains"] = "poe"
    poe_class: Annotated[int, Field(ge=0, le=8)] | None = None
    day_w: Annotated[float, Field(ge=0, le=100)] | None = None
    night_w: Annotated[float, Field(ge=0, le=100)] | None = None
    cold_w: Annotated[float, Field(ge=0, le=100)] | None = None
    moving_w: Annotated[float, Field(ge=0, le=100)] | None = None
    most_w: Annotated[float, Field(gt=0, le=200)] | None = None
    max_resolution: Resolution | None = None
    max_fps: Annotated[float, Field(gt=0, le=1000)] | None = None
    max_bitrate_kbps: Annotated[float, Field(gt=0)] | None = None
    codecs: tuple[Literal["H264", "H265", "JPEG"], ...] = ("H264",)
    default_address: Annotated[Address | None, BeforeValidator(empty_is_none)] = None
    port_rate_mbps: Annotated[int, Field(gt=0)] = 100
    onvif: bool = True
    basic_in_clear: bool = False
    password_length: Annotated[int, Field(ge=8, le=64)] | None = None
    recorder_role: Literal["viewer", "operator", "administrator"] | None = None
    main_path: str = ""
    sub_path: str = ""
    view_deg: Annotated[float, Field(gt=0, le=360)] | None = None
    sensor_width_mm: Annotated[float, Field(gt=0, le=60)] | None = None
    focal_mm: Annotated[float, Field(gt=0, le=1000)] | None = None
    projection: Literal["flat", "fisheye"] = "flat"
    price: Annotated[float, Field(ge=0)] | None = None
    firmware: Firmware | None = None

    @model_validator(mode="after")
    def _day_first(self) -> CameraType:
        more = [name for name in ("night_w", "cold_w", "moving_w", "most_w") if getattr(self, name) is not None]
        if self.day_w is None and more:
            raise ValueError(f"'day_w' is missing; expected it beside {more[0]}")
        return self

    @cached_property
    def counted_class(self) -> int:
        """Its PoE class; where nobody said it, that of a device without one, or the lowest that may draw what it draws."""
        return counted_class(self.poe_class, 0.0 if self.day_w is None else max(self.powers_w.values()))

    def power_w(self, mode: Mode) -> float:
        """Draw in `mode`; see `powers_w`."""
        return self.powers_w[mode]

    @cached_property
    def powers_w(self) -> dict[Mode, float]:
        """Draw in each mode; one that the data sheet does not name is the day's.

        At worst it is night, cold, and something moves: what each adds to the day's draw, together, and at most `most_w`.
        """
        if self.day_w is None:
            return dict.fromkeys(Mode, DEVICE_W[self.counted_class])
        day = self.day_w
        named = {Mode.DAY: day, Mode.NIGHT: self.night_w, Mode.COLD: self.cold_w, Mode.MOVING: self.moving_w}
        singly = {mode: day if drawn is None else drawn for mode, drawn in named.items()}
        together = day + sum(max(0.0, drawn - day) for drawn in singly.values())
        worst = together if self.most_w is None else max(*singly.values(), min(together, self.most_w))
        return {**singly, Mode.WORST: worst}


class PoeSupply(Part):
    """`poe_type` is the IEEE 802.3 type (1 to 4) of its PoE ports, which are ports 1 to `poe_ports`.

    `poe_budget_one_supply_w` is what is left of the budget when one of two supplies fails; `poe_efficiency` the share of what
    its PoE supply takes that arrives at the ports.
    """

    poe_ports: Annotated[int, Field(ge=0, le=512)] = 0
    poe_type: Annotated[int, Field(ge=1, le=4)] = 2
    poe_budget_w: Annotated[float, Field(ge=0)] = 0
    poe_budget_one_supply_w: Annotated[float, Field(ge=0)] | None = None
    poe_budgeting: Literal["draw", "class"] = "draw"
    poe_efficiency: Annotated[float, Field(gt=0, le=1)] = 0.9


class SwitchType(PoeSupply):
    """`self_w` is what the switch itself draws; `buffer_kb` what one port can hold back when frames come faster than it sends;
    `rack_units` its height [U], `price` in the currency of the site. `units`: of a stack that counts as one switch, each with as
    many ports. `first_index` and `first_poe_index`: by which number its SNMP tables call the first port (ifIndex, RFC 2863;
    pethPsePortIndex, RFC 3621), where they do not tell themselves.
    """

    name: Text
    maker: Text
    model: Text
    ports: Annotated[int, Field(ge=1, le=512)]
    self_w: Annotated[float, Field(ge=0)] = 0
    port_rate_mbps: Annotated[int, Field(gt=0)] = 1000
    uplink_ports: Annotated[int, Field(ge=0, le=64)] = 0
    uplink_rate_mbps: Annotated[int, Field(gt=0)] | None = None
    buffer_kb: Annotated[float, Field(gt=0)] | None = None
    rack_units: Annotated[float, Field(ge=0, le=100)] = 0
    price: Annotated[float, Field(ge=0)] | None = None
    units: Annotated[int, Field(ge=1, le=16)] = 1
    first_index: Annotated[int, Field(ge=0, le=2**31 - 1)] | None = None
    first_poe_index: Annotated[int, Field(ge=0, le=2**31 - 1)] | None = None
    firmware: Firmware | None = None

    @model_validator(mode="after")
    def _units_alike(self) -> SwitchType:
        if self.ports % self.units:
            raise ValueError(f"'units' is {self.units}; expected a number that divides its {self.ports} ports evenly")
        return self

    def rate_mbps(self, port: int) -> int:
        """Line rate of a port: the last `uplink_ports` have `uplink_rate_mbps`, the others `port_rate_mbps`."""
        if self.uplink_rate_mbps is not None and port > self.ports - self.uplink_ports:
            return self.uplink_rate_mbps
        return self.port_rate_mbps


class ChannelLimit(Part):
    """At most `channels` cameras of `resolution` or more pixels."""

    resolution: Resolution
    channels: Annotated[int, Field(ge=0)]


class RecorderType(PoeSupply):
    """`licences_included` None means that every channel is licensed; `bays` 0 that the data sheet does not say; `control` how its
    channels are given, by the name of a kind that `jobs/recorders` has; `output_mbps` what it sends to viewers at once; `codecs`
    those it takes in, empty where the data sheet does not say; `decode_mpixel_s` what it decodes for its own screen. `poe_ports`
    are ports of its own, for cameras; `power_w` is what it draws without what they feed.
    """

    name: Text
    maker: Text
    model: Text
    channels: Annotated[int, Field(ge=1, le=1024)]
    ingest_mbps: Annotated[float, Field(gt=0)]
    output_mbps: Annotated[float, Field(gt=0)] | None = None
    decode_mpixel_s: Annotated[float, Field(gt=0)] | None = None
    codecs: tuple[Literal["H264", "H265", "JPEG"], ...] = ()
    port_rate_mbps: Annotated[int, Field(gt=0)] = 1000
    power_w: Annotated[float, Field(ge=0)] = 0
    bays: Annotated[int, Field(ge=0, le=256)] = 0
    licences_included: Annotated[int, Field(ge=0)] | None = None
    channel_limits: tuple[ChannelLimit, ...] = ()
    control: Text = "onvif"
    basic_in_clear: bool = False
    password_length: Annotated[int, Field(ge=8, le=64)] | None = None
    rack_units: Annotated[float, Field(ge=0, le=100)] = 0
    price: Annotated[float, Field(ge=0)] | None = None
    firmware: Firmware | None = None

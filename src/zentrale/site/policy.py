"""The limits and rules of a site that are the customer's or the installer's choice (site.toml, [policy])."""

from __future__ import annotations

from ipaddress import IPv4Network
from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field

from zentrale.site.part import Part
from zentrale.site.settings import account_or_none
from zentrale.site.values import Address, Category, GroupBlock, PlaceName, Text, empty_is_none

SWEEP_PORTS = (80, 443, 554, 8080, 8443, 8554)
OnOff = Literal["", "on", "off"]


class Growth(Part):
    """Room that stays free for more [% of what is used now]: channels and ingest of recorders, storage, PoE power."""

    channels: Annotated[float, Field(ge=0, le=1000)] = 0
    storage: Annotated[float, Field(ge=0, le=1000)] = 0
    ingest: Annotated[float, Field(ge=0, le=1000)] = 0
    poe: Annotated[float, Field(ge=0, le=1000)] = 0


def _growth(value: object) -> object:
    """One number is that of all."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return dict.fromkeys(Growth.model_fields, value)
    if not isinstance(value, dict | Growth):
        raise ValueError("expected per cent as a number, or a table of channels, storage, ingest and poe")
    return value


class Policy(Part):
    """Limits that are the customer's or the installer's choice.

    keyframe_ratio: how many times as large a key frame is as one of the frames between
    refusal_window_min: at most two wrong passwords are tried on one device within this time
    authentication: what camera ports ask for before they let a device in; radius_server: who is asked then
    growth_percent: room that stays free; cable_spare_percent: so much more cable is ordered than is laid
    path_delay_ms: how long a packet may be on its way from camera to recorder when key frames fall together
    cords_m: patch cords at both ends of a run together
    cable_category: of runs whose row in the schedule says nothing; empty: unknown
    picture_label: the camera's name is written into its picture
    recorder_account: as whom recorders watch the cameras, an account that may do nothing else; empty: with the password that
                      opens the camera
    recorder_role: what that account may do, since some devices let no viewer see their streams
    password_length: of those that are made here [characters], where a device takes no other
    new_password_s: how long a device may take until it takes a new password
    audio_off: no camera sends what its microphone hears
    http, https, rtsp: on or off on all devices; empty: as it is
    services_off, automatic_updates: what a person sets at each device; no standard has it
    picture_black_percent to picture_covered_percent: so much of a picture may be black, white, of one colour, or hidden by one
                      surface; picture_sharp_percent: so many of its edges must be in focus; picture_alike_percent: so far
                      must its edges agree with those of its reference picture
    parallel_per_switch: how many cameras of one switch are set up at once
    snmp_rate: how many questions a second one switch is asked; 0: as fast as it answers
    """

    link_load_percent: Annotated[float, Field(gt=0, le=100)] = 70
    poe_reserve_percent: Annotated[float, Field(ge=0, le=90)] = 10
    max_run_m: Annotated[float, Field(gt=0)] = 90
    path_delay_ms: Annotated[float, Field(gt=0)] = 100
    cords_m: Annotated[float, Field(ge=0, le=50)] = 10
    cable_category: Category = ""
    clock_tolerance_s: Annotated[float, Field(gt=0)] = 5
    fps_tolerance_percent: Annotated[float, Field(gt=0)] = 10
    bitrate_over_percent: Annotated[float, Field(gt=0)] = 25
    bitrate_under_percent: Annotated[float, Field(gt=0, lt=100)] = 75
    jitter_ms: Annotated[float, Field(gt=0)] = 50
    picture_black_percent: Annotated[float, Field(gt=0, le=100)] = 98.5
    picture_white_percent: Annotated[float, Field(gt=0, le=100)] = 90
    picture_one_colour_percent: Annotated[float, Field(gt=0, le=100)] = 93
    picture_covered_percent: Annotated[float, Field(gt=0, le=100)] = 30
    picture_sharp_percent: Annotated[float, Field(ge=0, le=100)] = 15
    picture_alike_percent: Annotated[float, Field(ge=0, le=100)] = 20
    longest_gap_s: Annotated[float, Field(gt=0)] | None = None
    loss_percent: Annotated[float, Field(ge=0, lt=100)] = 0
    vlan_in_address: bool = False
    resilient_groups: tuple[PlaceName, ...] = ()
    keyframe_ratio: Annotated[float, Field(ge=1, le=100)] = 8
    multicast_block: GroupBlock = IPv4Network("239.192.0.0/16")
    authentication: Literal["none", "802.1X", "mac-bypass"] = "none"
    growth_percent: Annotated[Growth, BeforeValidator(_growth)] = Growth()
    cable_spare_percent: Annotated[float, Field(ge=0, le=200)] = 0
    radius_server: Annotated[Address | None, BeforeValidator(empty_is_none)] = None
    sweep_ports: tuple[Annotated[int, Field(ge=1, le=65535)], ...] = SWEEP_PORTS
    picture_label: bool = False
    refusal_window_min: Annotated[float, Field(gt=0, le=1440)] = 30
    recorder_account: Annotated[str, AfterValidator(account_or_none)] = "recorder"
    recorder_role: Literal["viewer", "operator", "administrator"] = "viewer"
    password_length: Annotated[int, Field(ge=8, le=64)] = 16
    new_password_s: Annotated[float, Field(ge=0, le=600)] = 30
    audio_off: bool = False
    http: OnOff = ""
    https: OnOff = ""
    rtsp: OnOff = ""
    services_off: tuple[Text, ...] = ()
    automatic_updates: OnOff = ""
    parallel_per_switch: Annotated[int, Field(ge=1, le=64)] = 4
    snmp_rate: Annotated[float, Field(ge=0, le=1000)] = 20

"""Which found device is which planned one, and what is said about each."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Network
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import make_site
from zentrale.errors import InputError
from zentrale.jobs.discovery.discovering import ranges_to_sweep
from zentrale.jobs.discovery.judging_devices import judge_devices
from zentrale.jobs.discovery.matching import Known, Matching, match_devices
from zentrale.jobs.finders.finder import Looked, Sighting
from zentrale.jobs.finders.merging import merge, sighting
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.selection import select
from zentrale.protocols.ws_discovery import Match
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan

NORTH_MAC, OTHER_MAC = "02:5a:71:00:00:11", "02:5a:71:00:00:99"


@pytest.fixture
def plan(tmp_path: Path) -> Plan:
    """north has MAC address and address in the plan, south an address only, the recorder both."""
    return read_plan(SiteFolder(make_site(tmp_path)))


def found(address: str, mac: str = "", **more: object) -> FoundDevice:
    device = FoundDevice(
        address, f"http://{address}/", "probe", "Pallas Yard", "Larch 2", mac=mac, state=State.OUR_PASSWORD.value
    )
    return replace(device, **more)  # type: ignore[arg-type]


def codes(plan: Plan, matching: Matching[FoundDevice]) -> set[tuple[str, str]]:
    looked = Looked((IPv4Network("127.0.71.0/27"),))
    judged = judge_devices(matching, plan, looked, (), {})
    return {(f.code, f.subject) for j in judged for f in j.findings if f.code != "DIS-1"}


def test_the_mac_address_goes_before_the_address(plan: Plan) -> None:
    moved, impostor = found("127.0.71.30", NORTH_MAC), found("127.0.71.11", OTHER_MAC)
    matching = match_devices(plan, [], [impostor, moved])
    assert matching.by_name["north"] is moved and matching.extra == (impostor,)
    assert codes(plan, matching) == {("DIS-3", "camera north"), ("DIS-2", "device at 127.0.71.11")}
    assert matching.missing == ("south", "recorder")


def test_an_address_is_enough_where_one_side_tells_no_mac_address(plan: Plan) -> None:
    silent, south = found("127.0.71.11"), found("127.0.71.12", OTHER_MAC)
    matching = match_devices(plan, [], [silent, south])
    assert matching.by_name == {"north": silent, "south": south} and not matching.extra


def test_a_binding_goes_before_everything(plan: Plan) -> None:
    device = found("127.0.71.25", OTHER_MAC)
    by_mac = match_devices(plan, [Known("south", OTHER_MAC, "10.0.0.1")], [device])
    by_address = match_devices(plan, [Known("south", "", "127.0.71.25")], [device])
    for matching in (by_mac, by_address):
        assert matching.by_name == {"south": device}
    assert match_devices(plan, [Known("gone", OTHER_MAC, "")], [device]).extra == (device,)


def test_two_that_claim_one_place_are_told(plan: Plan) -> None:
    twins = [found("127.0.71.11", NORTH_MAC), found("127.0.71.29", NORTH_MAC)]
    matching = match_devices(plan, [], twins)
    assert ("DIS-5", "camera north") in codes(plan, matching) and matching.by_name["north"] is twins[0]


@pytest.mark.parametrize(
    ("changes", "code"),
    [
        ({"model": "Vesper D4"}, "DIS-4"),
        ({"state": State.DEFAULT_PASSWORD.value}, "SEC-1"),
        ({"state": State.UNKNOWN_PASSWORD.value}, "SEC-3"),
        ({"state": State.OPEN.value}, "SEC-4"),
        ({"state": State.NO_ANSWER.value}, "DIS-6"),
        ({"clock_offset_s": 90.0}, "CLK-1"),
        ({"clock_offset_s": -3.0}, None),
        ({"clock_offset_s": 90.0, "state": State.FRESH.value}, None),
    ],
)
def test_what_is_said_about_a_device(plan: Plan, changes: dict[str, object], code: str | None) -> None:
    matching = match_devices(plan, [], [found("127.0.71.11", NORTH_MAC, **changes)])
    assert codes(plan, matching) == ({(code, "camera north")} if code else set())


macs = st.sampled_from(["", NORTH_MAC, OTHER_MAC, "02:5a:71:00:00:21"])
addresses = st.sampled_from([f"127.0.71.{n}" for n in (11, 12, 21, 29)])


@given(st.lists(st.tuples(addresses, macs), max_size=6))
def test_every_device_is_somewhere_and_only_once(
    tmp_path_factory: pytest.TempPathFactory, seen: list[tuple[str, str]]
) -> None:
    folder = tmp_path_factory.getbasetemp() / "matching-site"
    plan = read_plan(SiteFolder(folder if folder.exists() else make_site(folder)))
    devices = [found(address, mac, serial=str(n)) for n, (address, mac) in enumerate(seen)]
    matching = match_devices(plan, [], devices)
    placed = [*matching.by_name.values(), *matching.extra, *(d for _, d in matching.doubles)]
    assert sorted(d.serial for d in placed) == sorted(d.serial for d in devices)
    assert set(matching.by_name) | set(matching.missing) == {"north", "south", "recorder"}
    for name, device in matching.by_name.items():
        planned = {"north": NORTH_MAC, "recorder": "02:5a:71:00:00:21"}.get(name)
        assert not (planned and device.mac) or device.mac == planned


def test_probe_and_sweep_are_brought_together() -> None:
    """One entry a service of a host: many endpoints of one device are one, a cloned endpoint is two devices."""
    honest = Match("urn:1", (), ("onvif://www.onvif.org/hardware/L2",), ("http://10.0.0.5:81/onvif",))
    stale = Match("urn:2", (), (), ("http://192.168.0.64:82/onvif/x?y",))
    encoder = [(Match(f"urn:{n}", (), (), ("http://10.0.0.8/onvif",)), "10.0.0.8") for n in range(10, 26)]
    cloned = [(Match("urn:9", (), (), (f"http://10.0.0.{n}/",)), f"10.0.0.{n}") for n in (10, 11)]
    heard = [(honest, "10.0.0.5"), (stale, "10.0.0.6"), *encoder, *cloned]
    swept = [Sighting("10.0.0.5", "sweep", ports=(81,)), Sighting("10.0.0.7", "sweep", ports=(554,))]
    planned = [Sighting(f"10.0.0.{n}", "planned", url=f"http://10.0.0.{n}:8000/") for n in (5, 20)]
    devices = {d.address: d for d in merge([*(sighting(m, h) for m, h in heard), *swept, *planned])}
    assert [(d.method, d.url) for d in devices.values()] == [
        ("probe + sweep", "http://10.0.0.5:81/onvif"),
        ("probe", "http://10.0.0.6:82/onvif/x?y"),
        ("probe", "http://10.0.0.8/onvif"),
        ("probe", "http://10.0.0.10/"),
        ("probe", "http://10.0.0.11/"),
        ("sweep", ""),
        ("planned", "http://10.0.0.20:8000/"),
    ]
    assert devices["10.0.0.5"].model == "L2" and devices["10.0.0.6"].named_hosts == ("192.168.0.64 (service address)",)
    assert [devices[f"10.0.0.{n}"].own_endpoint for n in (8, 10, 11)] == ["urn:10", "", ""]


def test_what_is_swept(plan: Plan) -> None:
    import ipaddress

    from zentrale.field.adapters import Adapter
    from zentrale.field.sweep import hosts

    lo = Adapter("lo", "127.0.0.1", ipaddress.IPv4Network("127.0.0.0/8"))
    lan = Adapter("eth0", "192.168.9.2", ipaddress.IPv4Network("192.168.9.0/24"))
    assert [str(n) for n in ranges_to_sweep(plan, [lo], [])] == ["127.0.71.0/27"], "the planned zones on this adapter"
    assert [str(n) for n in ranges_to_sweep(plan, [lan], [])] == ["192.168.9.0/24"], "else the adapter's own network"
    assert ranges_to_sweep(None, [lo], []) == [], "never sixteen million addresses"
    assert [str(n) for n in ranges_to_sweep(plan, [lo], ["10.1.1.7/28"])] == ["10.1.1.0/28"]
    written = hosts(ranges_to_sweep(plan, [lo], ["10.40.0.250-10.40.1.5", "10.40.7.20-22", "10.40.8.1"]))
    assert written[0] == "10.40.0.250" and "10.40.1.5" in written and written[-4:] == [
        "10.40.7.20", "10.40.7.21", "10.40.7.22", "10.40.8.1",
    ] and len(written) == 12 + 4  # fmt: skip


def test_only_takes_names_groups_and_patterns(plan: Plan) -> None:
    def names(*only: str) -> list[str]:
        return [c.name for c in select(plan, only)]

    assert names() == names("all") == names("south,north") == names("*th") == ["north", "south"]
    assert names("n*") == names("north", "nor*") == ["north"]
    with pytest.raises(InputError, match="fits no camera or group"):
        names("north,nowhere")

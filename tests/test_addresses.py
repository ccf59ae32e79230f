"""Addresses: blocks, the scheme, what is kept, and what clashes."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.logbook.store import KnownDevice, Logbook
from zentrale.planning.addresses import AddressPlan, plan_addresses
from zentrale.site.folder import SiteFolder
from zentrale.site.identity import Identity
from zentrale.site.reading import read_plan

BARE = (
    SITE.replace("127.0.71.0/27", "10.20.71.0/24")
    .replace("127.0.71.21", "10.20.71.5")
    .replace('127.0.71.8"', '10.20.71.254"')
)
HEADER = CAMERAS.splitlines()[0] + "\n"


def rows(channels: list[int], addresses: dict[int, str] | None = None) -> str:
    given = addresses or {}
    return HEADER + "".join(
        f"cam-{c},x,larch-2,all,cameras,cabinet,{i},20,{given.get(c, '')},,recorder,{c}\n"
        for i, c in enumerate(channels, 1)
    )


def addresses_of(folder: Path, site: str = BARE, cameras: str | None = None, types: str = TYPES) -> AddressPlan:
    text = rows([1, 3]) if cameras is None else cameras
    return plan_addresses(read_plan(SiteFolder(make_site(folder, site, text, types))))


def test_the_blocks_of_a_zone(tmp_path: Path) -> None:
    (zone,) = addresses_of(tmp_path / "a").zones
    assert (str(zone.infrastructure), str(zone.fixed)) == ("10.20.71.1-10.20.71.10", "10.20.71.11-10.20.71.204")
    assert str(zone.pool) == "10.20.71.205-10.20.71.254" and zone.gateway is None
    said = 'gateway = "10.20.71.1"\nfixed = "10.20.71.100-10.20.71.149"\npool = "10.20.71.150-10.20.71.199"\n'
    (zone,) = addresses_of(tmp_path / "b", BARE.replace("vlan = 71\n", f"vlan = 71\n{said}")).zones
    assert (str(zone.gateway), str(zone.fixed), str(zone.pool)) == (
        "10.20.71.1", "10.20.71.100-10.20.71.149", "10.20.71.150-10.20.71.199",
    )  # fmt: skip


@given(st.sets(st.integers(1, 4), min_size=1), st.data())
def test_adding_or_removing_a_camera_renumbers_no_other(
    tmp_path_factory: pytest.TempPathFactory, channels: set[int], data: st.DataObject
) -> None:
    folder = tmp_path_factory.mktemp("a")
    everything = addresses_of(folder, cameras=rows([1, 2, 3, 4])).proposals()
    order = data.draw(st.permutations(sorted(channels)))
    some = addresses_of(folder, cameras=rows(order)).proposals()
    assert some == {name: address for name, address in everything.items() if name in some}
    assert everything["cam-3"] == "10.20.71.13", "the third channel has the third place"


def test_given_addresses_are_kept_and_worked_around(tmp_path: Path) -> None:
    plan = addresses_of(tmp_path, cameras=rows([1, 2, 3], {2: "10.20.71.11"}))
    found = {d.name: (str(d.address), d.given) for d in plan.devices}
    assert found["cam-2"] == ("10.20.71.11", True) and found["cam-3"] == ("10.20.71.13", False)
    assert found["cam-1"] == ("10.20.71.204", False), "its place is taken: the far end of the block"
    assert not plan.findings


# What is changed, and the finding it must bring: code, subject, a word of what was measured.
CASES = [
    (BARE, rows([1], {1: "10.99.0.7"}), TYPES, "ADR-1", "camera cam-1", "10.99.0.7, outside"),
    (BARE, rows([1], {1: "10.20.71.255"}), TYPES, "ADR-1", "camera cam-1", "no host address"),
    (BARE.replace("vlan = 71\n", 'vlan = 71\ngateway = "10.20.71.30"\n'), rows([1], {1: "10.20.71.30"}), TYPES,
     "ADR-1", "camera cam-1", "the gateway"),
    (BARE + '[[zones]]\nname = "office"\nvlan = 5\nsubnet = "10.20.0.0/16"\n', rows([1]), TYPES,
     "ADR-2", "zones cameras and office", "10.20.0.0/16"),
    (BARE.replace("vlan = 71\n", 'vlan = 71\nfixed = "10.20.71.5-10.20.71.6"\n'), rows([1, 2, 3]), TYPES,
     "ADR-3", "zone cameras", "without an address: cam-2, cam-3"),
    (BARE.replace("vlan = 71\n", 'vlan = 71\npool = "10.20.71.200-10.20.71.250"\n'), rows([1], {1: "10.20.71.210"}), TYPES,
     "ADR-4", "camera cam-1", "10.20.71.210"),
    (BARE, rows([1, 2]), TYPES.replace("poe_class = 3", 'poe_class = 3\ndefault_address = "192.168.0.64"', 1),
     "ADR-5", "2 cameras", "cam-1, cam-2: all 192.168.0.64"),
    (BARE.replace("vlan = 71", "vlan = 72").replace("[policy]", "[policy]\nvlan_in_address = true"), rows([1]), TYPES,
     "ADR-6", "zone cameras", "VLAN 72, 10.20.71.0/24"),
]  # fmt: skip


@pytest.mark.parametrize(("site", "cameras", "types", "code", "subject", "measured"), CASES)
def test_a_clash_is_found_and_nothing_else(
    tmp_path: Path, site: str, cameras: str, types: str, code: str, subject: str, measured: str
) -> None:
    (found,) = addresses_of(tmp_path, site, cameras, types).findings
    assert (found.code, found.subject) == (code, subject) and measured in found.measured


def test_addresses_are_entered_when_asked_and_all_else_stays(tmp_path: Path) -> None:
    cameras = "# kept\n" + rows([1, 3]).replace("cam-1,x,larch-2", 'cam-1,"gate, left",larch-2').replace(
        ",20,,,", ",20,,02:5a:71:00:00:aa,", 1
    )
    make_site(tmp_path, BARE, cameras)
    shown = zentrale("plan", "addresses", cwd=tmp_path)
    assert shown.code == 0 and "10.20.71.13" in shown.out and (tmp_path / "cameras.csv").read_text() == cameras
    assert zentrale("plan", "addresses", "--write", cwd=tmp_path).code == 0
    plan = read_plan(SiteFolder(tmp_path))
    assert [c.host for c in plan.cameras] == ["10.20.71.11", "10.20.71.13"]
    assert plan.cameras[0].shows == "gate, left" and (tmp_path / "cameras.csv").read_text().startswith("# kept\n")
    reservations = (tmp_path / "output" / "dhcp-reservations.conf").read_text()
    assert "dhcp-host=02:5a:71:00:00:aa,cam-1,10.20.71.11\n" in reservations
    assert "nothing to write" in zentrale("plan", "addresses", "--write", cwd=tmp_path).out
    assert zentrale("plan", "--write", cwd=tmp_path).code == 2
    document = zentrale("plan", "addresses", "--json", cwd=tmp_path).json
    told = {d["name"]: (d["kind"], d["given"]) for d in document["addresses"] if d["kind"] != "camera"}
    assert told == {"recorder": ("recorder", True), "cabinet": ("switch", True)}
    assert {d["name"] for d in document["addresses"] if d["given"]} == {"recorder", "cabinet", "cam-1", "cam-3"}
    (tmp_path / "site.toml").write_text(BARE.replace("vlan = 71\n", 'vlan = 71\nfixed = "10.20.71.9-10.20.71.5"\n'))
    assert "zones.fixed" in zentrale("check", cwd=tmp_path).err


SECOND = """
[[recorders]]
name = "first"
type = "recorder-4"
zone = "cameras"
switch = "cabinet"
port = 8
address = "10.20.71.6"
"""
WALL = (
    '[[viewers]]\nname = "wall"\nzone = "cameras"\nswitch = "cabinet"\nport = 7\nsource = "camera"\nmulticast = true\n'
)


def test_what_was_entered_or_registered_does_not_move(tmp_path: Path) -> None:
    """A recorder placed before the first, and one of more channels: by the scheme every camera would move by 4, then by 12."""
    make_site(tmp_path, BARE + WALL, rows([1, 3]))
    assert zentrale("plan", "addresses", "multicast", "--write", cwd=tmp_path).code == 0
    written = (tmp_path / "cameras.csv").read_text()
    assert "10.20.71.13" in written and "239.192.71.6" in written, "the sub stream of channel 3 is group 6"

    def planned() -> tuple[dict[str, str], dict[str, tuple[str, int]]]:
        document = zentrale("plan", "addresses", "multicast", "--json", cwd=tmp_path).json
        groups = {g["camera"]: (g["group"], g["port"]) for g in document["multicast_groups"]}
        return {d["name"]: d["address"] for d in document["addresses"] if d["kind"] == "camera"}, groups

    before = planned()
    for site, types in (
        (BARE.replace("[[recorders]]", f"{SECOND}[[recorders]]") + WALL, TYPES),
        (
            BARE.replace("[[recorders]]", f"{SECOND}[[recorders]]") + WALL,
            TYPES.replace("channels = 4", "channels = 16"),
        ),
    ):
        make_site(tmp_path, site, written, types)
        assert planned() == before
    # Nobody entered the addresses, but the devices were registered there; one of them somewhere else altogether.
    make_site(tmp_path, site, rows([1, 3]), types)
    with Logbook(SiteFolder(tmp_path).logbook_file) as logbook:
        for name, host in (("cam-1", "10.20.71.77"), ("cam-3", "192.168.1.64")):
            logbook.remember(KnownDevice(name, Identity(serial=name), host, ""))
    addresses, _ = planned()
    assert addresses == {"cam-1": "10.20.71.77", "cam-3": "10.20.71.29"}, "16 places on: nothing holds it"
    SiteFolder(tmp_path).logbook_file.write_bytes(b"no logbook at all" * 100)
    broken = zentrale("plan", "addresses", "--json", cwd=tmp_path)
    assert broken.code == 0 and "not looked at" in broken.err, "planning needs no logbook"


RECORDING = '[[zones]]\nname = "recording"\nvlan = 70\nsubnet = "10.20.71.0/24"\nfixed = "10.20.71.4-10.20.71.9"\n'
SECONDARY = 'vlan = 71\nprimary = "recording"\nfixed = "10.20.71.11-10.20.71.99"\n'
PRIVATE = BARE.replace("[[groups]]", f"{RECORDING}[[groups]]").replace("vlan = 71\n", SECONDARY)


def test_zones_of_one_private_vlan_share_a_subnet(tmp_path: Path) -> None:
    plan = addresses_of(tmp_path / "a", PRIVATE.replace('zone = "cameras"\nswitch', 'zone = "recording"\nswitch'))
    assert not plan.findings and plan.proposals() == {"cam-1": "10.20.71.11", "cam-3": "10.20.71.13"}
    apart = PRIVATE.replace('primary = "recording"\n', "")
    assert [f.code for f in addresses_of(tmp_path / "b", apart).findings] == [
        "ADR-2",
        "ADR-10",
    ]  # the recorder's own block is another


def test_a_recorders_viewing_leg_has_its_address_too(tmp_path: Path) -> None:
    office = '[[zones]]\nname = "office"\nvlan = 72\nsubnet = "10.20.72.0/24"\n'
    leg = 'viewing = { zone = "office", switch = "cabinet", port = 8, address = "ADDRESS", mac = "02:5a:00:00:00:09" }'
    site = BARE.replace("http_port", f"{leg}\nhttp_port") + office
    plan = addresses_of(tmp_path / "a", site.replace("ADDRESS", "10.20.72.5"))
    assert not plan.findings and {z.zone: z.devices for z in plan.zones} == {"cameras": 3, "office": 1}
    assert "dhcp-host=02:5a:00:00:00:09,recorder-viewing,10.20.72.5" in plan.reservations()
    (found,) = addresses_of(tmp_path / "b", site.replace("ADDRESS", "10.20.71.9")).findings
    assert (found.code, found.subject) == ("ADR-1", "recorder recorder-viewing") and "zone office" in found.limit

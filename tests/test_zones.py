"""Ports, zones, who reaches whom, and multicast, on a network small enough to check by eye."""

from __future__ import annotations

from ipaddress import IPv4Address
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.findings import Finding
from zentrale.planning.multicast import MulticastPlan, ethernet_address, plan_multicast
from zentrale.planning.ports import PortRow, PortTables, plan_ports
from zentrale.planning.power import plan_power
from zentrale.planning.reach import ReachPlan, plan_reach
from zentrale.planning.traffic import OVERHEAD
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan

# cabinet (recorder) - far - end, and a ring far - side - cabinet. `south` stands on far.
NETWORK = "".join(
    f'[[switches]]\nname = "{n}"\ncabinet = "{n}"\ntype = "switch-8"\n' for n in ("far", "side", "end")
) + "".join(
    f'[[links]]\na = "{a}"\nb = "{b}"\nrate_mbps = 100\n'
    for a, b in (("cabinet:10", "far:10"), ("far:9", "side:9"), ("side:10", "cabinet:8"), ("far:8", "end:8"))
)  # fmt: skip
ROWS = CAMERAS.replace("cabinet,2", "far,2")
OFFICE = '[[zones]]\nname = "office"\nvlan = 72\nsubnet = "127.0.72.0/27"\ngateway = "127.0.72.1"\n'
DESK = '[[viewers]]\nname = "desk"\nzone = "office"\nswitch = "cabinet"\nport = 7\n'
LEG = 'viewing = { zone = "office", switch = "cabinet", port = 6, address = "127.0.72.5" }\nhttp_port'
TWO_LEGS = SITE.replace("http_port", LEG)
# The recorder's zone is the primary of a private VLAN, the cameras are isolated in it.
PRIVATE = SITE.replace('zone = "cameras"', 'zone = "recording"').replace(
    "[[groups]]", '[[zones]]\nname = "recording"\nvlan = 70\nsubnet = "127.0.71.0/27"\n[[groups]]'
).replace("vlan = 71", 'vlan = 71\nprimary = "recording"')  # fmt: skip


def plan_of(folder: Path, site: str, cameras: str = ROWS, types: str = TYPES) -> Plan:
    return read_plan(SiteFolder(make_site(folder, site, cameras, types)))


def ports_of(folder: Path, site: str, cameras: str = ROWS) -> PortTables:
    plan = plan_of(folder, site, cameras)
    return plan_ports(plan, plan_power(plan))


def at(tables: PortTables, place: str) -> PortRow:
    return next(row for row in tables.rows if f"{row.switch}:{row.port}" == place)


def told(findings: tuple[Finding, ...]) -> list[tuple[str, str]]:
    return [(f.code, f.subject) for f in findings]


def test_the_generated_table(tmp_path: Path) -> None:
    tables = ports_of(tmp_path, TWO_LEGS + OFFICE + NETWORK + DESK)
    north = at(tables, "cabinet:1")
    assert (north.device, north.mode, north.access, north.run_length_m) == ("north", "access", "cameras", 20)
    assert north.poe_w == pytest.approx(6.04, abs=0.01) and not north.energy_saving and north.rate_mbps == 100
    assert at(tables, "cabinet:9").access == "cameras" and at(tables, "cabinet:6").access == "office"
    assert at(tables, "cabinet:7").device == "desk"
    assert at(tables, "cabinet:2").mode == "off" and at(tables, "cabinet:2").kind == "free"
    ring = [at(tables, place).tagged for place in ("cabinet:10", "far:10", "far:9", "side:9", "side:10", "cabinet:8")]
    assert set(ring) == {("cameras",)}, "the detour carries the zone too"
    assert at(tables, "far:8").tagged == (), "nothing of any zone stands on end"
    assert len(tables.rows) == 4 * 10 and not tables.findings


def test_a_private_vlan_gives_its_ports_their_roles(tmp_path: Path) -> None:
    tables = ports_of(tmp_path, PRIVATE + NETWORK)
    assert (at(tables, "cabinet:1").role, at(tables, "cabinet:9").role) == ("isolated", "promiscuous")
    assert at(tables, "far:10").tagged == ("cameras", "recording"), "the primary goes where its secondaries go"


def test_a_wireless_camera_hangs_on_its_access_point(tmp_path: Path) -> None:
    point = (
        '[[access_points]]\nname = "ap"\nswitch = "far"\nport = 1\nnetworks = [{ name = "door", zone = "cameras" }]\n'
    )
    rows = ROWS.replace("channel\n", "channel,wireless\n").replace("recorder,1\n", "recorder,1,\n")
    rows = rows.replace("far,2,30", "far,1,0").replace("recorder,3", "recorder,3,door")
    tables = ports_of(tmp_path / "a", SITE + NETWORK + point, rows)
    assert (at(tables, "far:1").kind, at(tables, "far:1").access) == ("access point", "cameras")
    assert at(tables, "far:1").poe_w is None
    make_site(tmp_path / "b", SITE + NETWORK + point, rows.replace(",door", ",hall"))
    shown = zentrale("check", cwd=tmp_path / "b")
    assert shown.code == 2 and "field wireless: found 'hall'" in shown.all and "door" in shown.all


PORT = '[[ports]]\nat = "{}"\n'
CASES = [
    (PORT.format("cabinet:1") + 'access = "office"\n', "ZON-1", "port cabinet:1 (north)"),
    (PORT.format("cabinet:9") + 'tagged = ["cameras", "office"]\n', "ZON-1", "port cabinet:9 (recorder)"),
    (PORT.format("far:10") + 'tagged = ["office"]\n', "ZON-3", "port far:10 (cabinet:10)"),
    (PORT.format("cabinet:1") + "poe = false\n", "ZON-4", "port cabinet:1 (north)"),
    (PORT.format("cabinet:1") + 'device = "south"\n', "ZON-5", "port cabinet:1"),
    (PORT.format("far:2") + "energy_saving = true\n", "ZON-6", "port far:2 (south)"),
    (PORT.format("far:2") + "rate_mbps = 10000\n", "ZON-7", "port far:2 (south)"),
]


@pytest.mark.parametrize(("port", "code", "subject"), CASES)
def test_what_the_plan_says_of_a_port_is_checked(tmp_path: Path, port: str, code: str, subject: str) -> None:
    tables = ports_of(tmp_path, SITE + OFFICE + NETWORK + port)
    assert told(tables.findings) == [(code, subject)]
    assert tables.findings[0].advice and tables.findings[0].limit


def test_a_list_that_forgets_the_recorders_own_port(tmp_path: Path) -> None:
    listed = SITE.replace('name = "cabinet"\n', 'name = "cabinet"\nports = "listed"\n')
    given = PORT.format("cabinet:1") + 'access = "cameras"\n'
    tables = ports_of(tmp_path, listed + NETWORK + given)
    assert told(tables.findings) == [
        ("ZON-3", "port cabinet:8 (side:10)"), ("ZON-2", "port cabinet:9 (recorder)"), ("ZON-3", "port cabinet:10 (far:10)"),
    ]  # fmt: skip


def reach_of(folder: Path, site: str) -> tuple[ReachPlan, dict[tuple[str, str], tuple[bool, str]]]:
    plan = plan_reach(plan_of(folder, site + NETWORK))
    return plan, {(str(c.origin), str(c.to)): (c.allowed, c.why) for c in plan.cells}


def rule(start: str, end: str, table: str = "rules", more: str = "") -> str:
    return f'[[{table}]]\nfrom = "{start}"\nto = "{end}"\n{more}\n'


def test_who_reaches_whom_in_a_private_vlan(tmp_path: Path) -> None:
    plan, cells = reach_of(tmp_path, PRIVATE)
    assert cells["camera in cameras", "camera in cameras"][0] is False
    assert "RFC 5517" in cells["camera in cameras", "camera in cameras"][1]
    assert cells["camera in cameras", "recorder in recording"] == (True, "promiscuous port of private VLAN 70")
    assert cells["recorder in recording", "camera in cameras"][0] and not plan.findings
    assert cells["camera in cameras", "internet"] == (False, "cameras has no gateway")


def test_rules_decide_in_order_and_by_kind(tmp_path: Path) -> None:
    routed = SITE.replace("vlan = 71", 'vlan = 71\ngateway = "127.0.71.30"') + OFFICE
    only_recorders = rule("office", "cameras", more='to_kind = "recorder"') + rule("office", "*", more="allow = false")
    plan, cells = reach_of(tmp_path, routed + only_recorders + rule("cameras", "office", "reach", "wanted = true"))
    assert cells["device in office", "recorder in cameras"] == (True, "rule 1 allows it")
    assert cells["device in office", "camera in cameras"] == (False, "rule 2 forbids it")
    assert cells["device in office", "internet"] == (False, "rule 2 forbids it")
    assert cells["device in office", "device in office"][1] == "same VLAN 72"
    assert {(f.code, f.subject) for f in plan.findings} == {
        ("RCH-2", "camera in cameras to device in office"), ("RCH-2", "recorder in cameras to device in office"),
    }  # fmt: skip


def test_access_lists_follow_from_who_reaches_whom(tmp_path: Path) -> None:
    """Written out by hand: the office sees the recorder's pages and nothing else of the cameras' zone, in this order."""
    rules = """
[[rules]]
from = "office"
to = "cameras"
protocol = "tcp"
port = 23
allow = false
[[rules]]
from = "office"
to = "cameras"
to_kind = "recorder"
protocol = "tcp"
port = "1-1023"
"""
    site = SITE.replace("vlan = 71", 'vlan = 71\ngateway = "127.0.71.30"') + OFFICE + NETWORK + DESK + rules
    make_site(tmp_path, site, ROWS, TYPES)
    told = zentrale("plan", "zones", "--json", cwd=tmp_path).json["access_list"]
    rows = [
        (r["to_kind"], *r["to_networks"], r["protocol"], r["port"], r["verdict"], r["why"])
        for r in told
        if (r["from_kind"], r["to_zone"]) == ("viewer", "cameras")
    ]
    assert rows == [
        ("camera", "127.0.71.11/32", "127.0.71.12/32", "tcp", "23", "deny", "rule 1"),
        ("camera", "127.0.71.11/32", "127.0.71.12/32", "any", "any", "deny", "no rule allows it"),
        ("recorder", "127.0.71.21/32", "tcp", "23", "deny", "rule 1"),
        ("recorder", "127.0.71.21/32", "tcp", "1-1023", "allow", "rule 2"),
        ("recorder", "127.0.71.21/32", "any", "any", "deny", "no rule allows it"),
        ("switch", "127.0.71.8/32", "tcp", "23", "deny", "rule 1"),
        ("switch", "127.0.71.8/32", "any", "any", "deny", "no rule allows it"),
    ]
    inside = [r for r in told if (r["from_zone"], r["to_zone"]) == ("cameras", "cameras")]
    assert {(r["kept_by"], r["verdict"]) for r in inside} == {("switch", "allow")}
    assert "1-1023" in zentrale("plan", "zones", cwd=tmp_path).out


@pytest.mark.parametrize(("port", "reached"), [("554", True), ("550-560", True), ("80", False)])
def test_a_way_for_one_port_is_a_way_for_that_port(tmp_path: Path, port: str, reached: bool) -> None:
    """A screen that asks the cameras themselves needs RTSP (TCP port 554, IANA)."""
    rule = f'[[rules]]\nfrom = "office"\nto = "cameras"\nprotocol = "tcp"\nport = "{port}"\n'
    site = (
        SITE.replace("vlan = 71", 'vlan = 71\ngateway = "127.0.71.30"')
        + OFFICE
        + NETWORK
        + DESK
        + 'source = "camera"\n'
    )
    found = [f for f in plan_reach(plan_of(tmp_path, site + rule)).findings if f.code == "RCH-3"]
    assert [f.subject for f in found] == ([] if reached else ["viewer in office to camera in cameras"])


def test_a_recorder_that_forwards_is_found_with_everything_behind_it(tmp_path: Path) -> None:
    """Cameras reach the office through the recorder, and the internet through the office's gateway."""
    policy = rule("cameras", "*", "reach", "wanted = false")
    site = TWO_LEGS + OFFICE + rule("office", "internet")
    apart, _ = reach_of(tmp_path / "a", site + policy)
    assert not apart.findings
    plan, cells = reach_of(tmp_path / "b", site.replace("http_port", "forwards = true\nhttp_port") + policy)
    assert cells["camera in cameras", "internet"] == (True, "through recorder, which forwards from leg to leg")
    found = told(plan.findings)
    assert ("RCH-4", "recorder recorder") in found and ("RCH-1", "camera in cameras to internet") in found
    assert ("RCH-1", "camera in cameras to recorder in office") in found


def test_the_work_needs_ways(tmp_path: Path) -> None:
    """The recorder stands in a zone that does not reach the cameras; the desk asks cameras it does not reach."""
    apart = SITE.replace('zone = "cameras"', 'zone = "office"').replace("127.0.71.21", "127.0.72.21") + OFFICE
    plan, _ = reach_of(tmp_path, apart + DESK + 'source = "camera"\n')
    assert told(plan.findings) == [
        ("RCH-3", "recorder in office to camera in cameras"), ("RCH-3", "viewer in office to camera in cameras"),
    ]  # fmt: skip
    assert "2 devices: north, south" in plan.findings[0].measured


def multicast_of(folder: Path, site: str, cameras: str = ROWS) -> MulticastPlan:
    return plan_multicast(plan_of(folder, site + NETWORK, cameras))


WALL = DESK.replace('"office"', '"cameras"').replace('"desk"', '"wall"') + 'source = "camera"\nmulticast = true\n'


def test_groups_by_zone_and_channel(tmp_path: Path) -> None:
    plan = multicast_of(tmp_path, SITE + WALL)
    assert [(g.camera, g.group, g.port, g.time_to_live) for g in plan.groups] == [
        ("north", "239.192.71.2", 20_002, 1), ("south", "239.192.71.6", 20_010, 1),
    ]  # fmt: skip
    assert plan.groups[0].ethernet == "01:00:5e:40:47:02" and plan.groups[0].listeners == ("wall",)
    assert plan.fast_leave == ("cabinet:7",) and not plan.findings
    (zone,) = plan.zones
    assert (zone.querier, zone.proposed) == ("cabinet", True) and set(zone.snooping_on) == {"cabinet", "far", "side"}
    sub = 64_000 * OVERHEAD
    loads = {link.name: (link.snooped_bps, link.flooded_bps) for link in plan.links}
    assert loads["cabinet:10 - far:10"] == pytest.approx((sub, 2 * sub))
    assert loads["far:9 - side:9"] == pytest.approx((0, 2 * sub)) and zone.flooded_port_bps == pytest.approx(2 * sub)


def test_what_is_wrong_with_groups_and_switches(tmp_path: Path) -> None:
    rows = ROWS.replace("channel\n", "channel,multicast_sub\n").replace("recorder,1\n", "recorder,1,239.192.3.9\n")
    clash = multicast_of(tmp_path / "a", SITE + WALL, rows.replace("recorder,3\n", "recorder,3,239.64.3.9\n"))
    assert told(clash.findings) == [("MCT-1", "camera south, sub stream")], "239.64 and 239.192 differ above bit 23"
    outside = multicast_of(tmp_path / "b", SITE + WALL, rows.replace("recorder,3\n", "recorder,3,224.128.0.7\n"))
    assert told(outside.findings) == [("MCT-2", "camera south, sub stream")] and "flood" in outside.findings[0].measured
    deaf = multicast_of(
        tmp_path / "c", SITE.replace('name = "cabinet"\n', 'name = "cabinet"\nsnooping = false\n') + WALL
    )
    assert told(deaf.findings) == [("MCT-3", "zone cameras")] and "cabinet" in deaf.findings[0].measured
    office = OFFICE + WALL.replace('"cameras"', '"office"')
    assert told(multicast_of(tmp_path / "d", SITE + office).findings) == [("MCT-4", "viewers in office")]
    copied = SITE.replace('name = "cabinet"\n', 'name = "cabinet"\ncopies_multicast = true\n')
    assert not multicast_of(tmp_path / "e", copied + office).findings
    querier = multicast_of(tmp_path / "f", SITE.replace("vlan = 71", 'vlan = 71\nquerier = "end"') + WALL)
    assert told(querier.findings) == [("MCT-5", "zone cameras")]
    small = multicast_of(tmp_path / "g", SITE.replace("[policy]", '[policy]\nmulticast_block = "239.1.2.4/32"') + WALL)
    assert told(small.findings) == [("MCT-6", "block 239.1.2.4/32")] and "south sub" in small.findings[0].measured


@given(st.integers(0, 0x0FFFFFFF), st.integers(0, 31))
def test_thirty_two_groups_share_an_ethernet_address(low: int, twin: int) -> None:
    group = IPv4Address(0xE0000000 + low)
    other = IPv4Address(0xE0000000 | twin << 23 | int(group) & 0x7FFFFF)
    assert ethernet_address(str(group)) == ethernet_address(str(other))
    assert ethernet_address(str(group)).startswith("01:00:5e:")
    assert bytes.fromhex(ethernet_address(str(group)).replace(":", ""))[3] < 128


def as_ports(tables: PortTables) -> str:
    """The generated table as [[ports]] of site.toml."""
    text = ""
    for row in tables.rows:
        if row.kind != "free" and row.zones:
            zones = f"access = '{row.access}'" if row.mode == "access" else f"tagged = {list(row.tagged)}"
            text += f"[[ports]]\nat = '{row.switch}:{row.port}'\nrate_mbps = {row.rate_mbps}\n{zones}\n"
    return text


@pytest.mark.parametrize("site", [SITE, PRIVATE, TWO_LEGS + OFFICE + DESK, SITE + WALL])
def test_what_is_generated_passes_its_own_check(tmp_path: Path, site: str) -> None:
    """Entered into the plan as the whole list of every switch, it changes nothing and nothing is missing."""
    first = ports_of(tmp_path / "a", site + NETWORK)
    listed = (site + NETWORK).replace('type = "switch-8"\n', 'type = "switch-8"\nports = "listed"\n')
    again = ports_of(tmp_path / "b", listed + as_ports(first))
    told_again = [f for f in again.findings if f.code != "ZON-3" or "no zone" not in f.limit]
    assert not told_again
    used = [row for row in first.rows if row.zones]
    same = [(row.switch, row.port, row.mode, row.zones, row.role, row.poe_w) for row in used]
    assert [(r.switch, r.port, r.mode, r.zones, r.role, r.poe_w) for r in again.rows if r.zones] == same


ENDS = st.sampled_from(["cameras", "office", "internet", "*"])
KINDS = st.sampled_from([None, "camera", "recorder", "device"])
RULES = st.lists(st.tuples(ENDS, ENDS, KINDS, KINDS, st.booleans()), max_size=5)


def rules_text(rules: list[tuple[str, str, str | None, str | None, bool]]) -> str:
    text = ""
    for start, end, from_kind, to_kind, allow in rules:
        kinds = "".join(f"{key} = '{kind}'\n" for key, kind in (("from_kind", from_kind), ("to_kind", to_kind)) if kind)
        text += rule(start, end, more=f"{kinds}allow = {str(allow).lower()}")
    return text


@given(RULES, st.booleans())
def test_rules_only_ever_act_between_zones(
    tmp_path_factory: pytest.TempPathFactory, rules: list[tuple[str, str, str | None, str | None, bool]], gateway: bool
) -> None:
    """Whatever the rules: within a VLAN nothing changes, without a gateway nothing passes, and an allowing rule put
    last takes nothing away.
    """
    site = SITE.replace("vlan = 71", 'vlan = 71\ngateway = "127.0.71.30"') if gateway else SITE
    folder = tmp_path_factory.mktemp("rules")
    _, cells = reach_of(folder, site + OFFICE + rules_text(rules))
    _, more = reach_of(folder, site + OFFICE + rules_text([*rules, ("*", "*", None, None, True)]))
    for (origin, to), (allowed, why) in cells.items():
        if origin.split()[-1] == to.split()[-1]:
            assert allowed and "same VLAN" in why
        elif not gateway and "cameras" in origin + to:
            assert not allowed and "cameras has no gateway" in why
        else:
            assert more[origin, to][0] or not allowed
            assert why == "no rule allows it" or why.startswith("rule ")


def test_what_a_camera_port_asks_for(tmp_path: Path) -> None:
    """Without a MAC address in the plan there is nothing to bypass by; a port may say otherwise for itself."""
    bypass = SITE.replace("[policy]", '[policy]\nauthentication = "mac-bypass"')
    tables = ports_of(tmp_path / "a", bypass + NETWORK)
    assert at(tables, "cabinet:1").authentication == "mac-bypass" and at(tables, "far:2").authentication == "none"
    assert at(tables, "cabinet:9").authentication == "none", "a recorder is let in as it is"
    own = PORT.format("far:2") + 'authentication = "802.1X"\nlabel = "south, by the ladder"\n'
    said = at(ports_of(tmp_path / "b", bypass + NETWORK + own), "far:2")
    assert (said.authentication, said.label, said.given) == ("802.1X", "south, by the ladder", True)


def test_a_dark_link_is_off_at_both_ends(tmp_path: Path) -> None:
    dark = NETWORK.replace('b = "side:9"\nrate_mbps = 100', 'b = "side:9"\nrate_mbps = 100\nlit = false')
    tables = ports_of(tmp_path, SITE + dark)
    assert {at(tables, place).mode for place in ("far:9", "side:9")} == {"off"} and "dark" in at(tables, "far:9").label
    assert at(tables, "side:10").tagged == (), "with the ring open nothing of the zone passes there"
    assert at(tables, "far:10").tagged == ("cameras",)


def test_a_community_talks_among_itself_and_not_to_another(tmp_path: Path) -> None:
    two = PRIVATE.replace('primary = "recording"', 'primary = "recording"\nprivate = "community"')
    screens = '[[zones]]\nname = "screens"\nvlan = 73\nsubnet = "127.0.71.0/27"\nprimary = "recording"\n'
    _, cells = reach_of(tmp_path, two + screens)
    assert cells["camera in cameras", "camera in cameras"] == (True, "same VLAN 71")
    assert cells["device in screens", "device in screens"][0] is False, (
        "isolated is what is meant where nothing is said"
    )
    allowed, why = cells["camera in cameras", "device in screens"]
    assert not allowed and "VLANs 71 and 73 are apart" in why
    assert cells["device in screens", "recorder in recording"][0]


def test_a_secondary_is_routed_by_its_primarys_gateway(tmp_path: Path) -> None:
    routed = PRIVATE.replace("vlan = 70\n", 'vlan = 70\ngateway = "127.0.71.30"\n') + OFFICE
    _, cells = reach_of(tmp_path, routed + rule("office", "cameras") + rule("internet", "recording"))
    assert cells["device in office", "camera in cameras"] == (True, "rule 1 allows it")
    assert cells["internet", "recorder in recording"] == (True, "rule 2 allows it")
    assert cells["camera in cameras", "device in office"] == (False, "no rule allows it"), (
        "answers come back, calls do not"
    )


def test_what_a_recorder_sends_on_is_a_group_of_its_own(tmp_path: Path) -> None:
    """The wall in the office gets the sub streams from the viewing leg; the one in the cameras' zone from the cameras."""
    by_leg = DESK.replace('"desk"', '"screen"') + "multicast = true\n"
    plan = multicast_of(tmp_path, TWO_LEGS + OFFICE + by_leg + WALL.replace("port = 7", "port = 5"))
    groups = {(g.camera, g.zone): (g.group, g.listeners) for g in plan.groups}
    assert groups["north", "office"] == ("239.192.72.2", ("screen",))
    assert groups["north", "cameras"] == ("239.192.71.2", ("wall",)) and len(groups) == 4 and not plan.findings
    assert set(plan.fast_leave) == {"cabinet:7", "cabinet:5"}

"""What a switch's tables mean: expected values from the RFCs and IEEE 802.1AB, worked out by hand, and never a zero for what
is not told.
"""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zentrale.errors import NotToldError, RemoteProtocolError
from zentrale.planning.daylight import is_day, sun_elevation_deg
from zentrale.protocols import lldp
from zentrale.protocols.mib import bridging, power, tables
from zentrale.protocols.mib.numbering import Shape, number_ports
from zentrale.protocols.mib.switch import Told, understand
from zentrale.protocols.mib.tables import Rows, oid, rows_of

IF = "1.3.6.1.2.1.2.2.1"
COUNTERS = {"in_discards": 0, "in_errors": 0, "out_discards": 0, "out_errors": 0}


def interfaces(*indexes: int, **more: int) -> Rows:
    return {(i,): {"type": 6, "admin": 1, "oper": 1, "speed": 100_000_000, **COUNTERS, **more} for i in indexes}


def named(names: Mapping[int, str]) -> Rows:
    return {(i,): {"name": text.encode()} for i, text in names.items()}


def parts(positions: Mapping[int, int], *, chassis: Mapping[int, int] | None = None, inside: int = 1) -> Rows:
    """Ports of class 10 by physical index with their positions; chassis of class 3."""
    found: Rows = {(i,): {"class": 3, "inside": 0, "position": p} for i, p in (chassis or {1: 1}).items()}
    return found | {(i,): {"class": 10, "inside": inside, "position": p} for i, p in positions.items()}


def aliases(rows: Mapping[int, str]) -> Rows:
    return {(part, n): {"row": oid(text)} for n, (part, text) in enumerate(rows.items())}


def test_the_first_bit_of_a_port_list_is_port_1() -> None:
    """RFC 4363: each octet is eight ports, the first of them the most significant bit."""
    assert bridging.port_list(bytes.fromhex("8001")) == {1, 16}
    assert bridging.port_list(bytes.fromhex("00000040")) == {26} and bridging.port_list(b"") == set()


def test_a_ports_number_is_what_all_ways_agree_on() -> None:
    told = {
        "ifTable": interfaces(11, 12, 13),
        "ifXTable": named({11: "gi1", 12: "gi2", 13: "gi3"}),
        "entPhysicalTable": parts({101: 1, 102: 3}),
        "entAliasMappingTable": aliases({101: f"{IF}.1.11", 102: f"{IF}.1.12"}),
    }
    numbering = number_ports(Shape(3), told)
    assert numbering.index == {1: 11, 2: 12}, "port 2 by its name alone, port 1 by both"
    assert numbering.disagree == {3: "ENTITY-MIB says interface 12, ifName says interface 13"}
    by_hand = number_ports(Shape(3, first_index=12), {k: told[k] for k in ("ifTable", "ifXTable")})
    assert by_hand.index == {} and set(by_hand.disagree) == {1, 2, 3}, (
        "a data sheet that is off by one is told at every port"
    )


@pytest.mark.parametrize(
    ("names", "index"),
    [
        ({501: "ge-0/0/0", 502: "ge-0/0/1"}, {}),  # counts from 0: what the plug says is not known
        ({501: "Gi1/0/1", 502: "Te1/0/1"}, {}),  # a slot of its own counts from 1 again
        ({501: "uplink", 502: "Port 2"}, {2: 502}),
        ({501: "Port 2", 502: "Port 10"}, {2: 501, 10: 502}),
    ],
)
def test_names_tell_only_what_they_prove(names: dict[int, str], index: dict[int, int]) -> None:
    assert number_ports(Shape(10), {"ifTable": interfaces(501, 502), "ifXTable": named(names)}).index == index


def test_what_is_no_plug_is_no_port_and_units_of_a_stack_count_on() -> None:
    """ifType 53 (propVirtual) and 161 (ieee8023adLag) have names that end in numbers, too. Port 26 is port 2 of unit 2."""
    told = {
        "ifTable": interfaces(1001, 2002) | {(9,): {"type": 161, "admin": 1, "oper": 1}},
        "ifXTable": named({1001: "1/0/1", 2002: "2/0/2", 9: "Po1"}),
        "entPhysicalTable": parts({5: 1}, chassis={1: 1, 2: 2}) | parts({6: 2}, chassis={1: 1, 2: 2}, inside=2),
        "entAliasMappingTable": aliases({5: f"{IF}.1.1001", 6: f"{IF}.1.2002"}),
    }
    assert number_ports(Shape(48, units=2), told).index == {1: 1001, 26: 2002}


def test_a_poe_port_is_proved_by_alias_or_by_the_data_sheet_and_else_not_known() -> None:
    row: Rows = {(1, n): {"admin": 1, "detection": 3, "class": 4} for n in (9, 10)}
    told = {"ifTable": interfaces(1, 2), "ifXTable": named({1: "p1", 2: "p2"}), "pethPsePortTable": row}
    assert number_ports(Shape(2), told).poe == {}
    assert number_ports(Shape(2, first_poe_index=9), told).poe == {1: (1, 9), 2: (1, 10)}
    told |= {
        "entPhysicalTable": parts({101: 1}),
        "entAliasMappingTable": aliases({101: "1.3.6.1.2.1.105.1.1.1.3.1.10"}),
    }
    numbering = number_ports(Shape(2, first_poe_index=9), told)
    assert 1 not in numbering.poe and "row 1.10" in numbering.poe_disagree[1] and "row 1.9" in numbering.poe_disagree[1]
    seen = understand(Told(told, {}, {}, 0), Shape(2))
    assert seen.ports[1].poe is None and not any(p.poe for p in seen.ports if p.port == 2), (
        "never by its place in the list"
    )


def test_watts_are_scaled_as_the_sensor_says() -> None:
    """RFC 3433: scale 8 is milli, 9 units, 10 kilo; precision is the number of decimals. 12345 mW, 12.3 W, 4 W; 20 V is none."""
    sensors: Rows = {
        (1,): {"type": 6, "scale": 8, "precision": 0, "value": 12345, "state": 1},
        (2,): {"type": 6, "scale": 9, "precision": 1, "value": 123, "state": 1},
        (3,): {"type": 6, "scale": 10, "precision": 3, "value": 4, "state": 1},
        (4,): {"type": 3, "scale": 9, "precision": 0, "value": 20, "state": 1},
        (5,): {"type": 6, "scale": 9, "precision": 0, "value": 7, "state": 3},  # nonoperational
    }
    assert power.watts_by_part({"entPhySensorTable": sensors}) == pytest.approx({1: 12.345, 2: 12.3, 3: 4.0})


def test_a_class_counts_only_while_power_is_delivered() -> None:
    """RFC 3621: pethPsePortPowerClassifications is class 0 as 1 to class 4 as 5, valid only in deliveringPower."""
    row: dict[str, tables.Value] = {"admin": 1, "detection": 3, "class": 5, "priority": 1}
    rows: Rows = {(1, 1): row, (1, 2): {**row, "detection": 2}}
    told = {"pethPsePortTable": rows}
    delivering, searching = (power.poe_port(told, (1, n), None, None) for n in (1, 2))
    assert delivering and (delivering.poe_class, delivering.state, delivering.priority) == (
        4,
        "deliveringPower",
        "critical",
    )
    assert searching and searching.poe_class is None and searching.power_w is None and searching.denied is None


@pytest.mark.parametrize(
    ("first", "second", "apart_s", "errors"),
    [(4294967290, 10, 60.0, 16.0), (5, 5, 30.0, 0.0), (5, 35, 30.0, 60.0), (500, 3, 30.0, None), (5, 35, 0.0, None)],
)
def test_errors_are_a_rate_between_two_readings(first: int, second: int, apart_s: float, errors: float | None) -> None:
    """A Counter32 goes round at 2^32: from 4294967290 to 10 are 16. One that was set back tells nothing."""
    told = {"ifTable": interfaces(1, in_errors=first), "ifXTable": named({1: "p1"})}
    port = understand(Told(told, {}, {(1,): {**COUNTERS, "in_errors": second}}, apart_s), Shape(1)).ports[0]
    assert (port.errors and port.errors.in_errors) == errors if errors is not None else port.errors is None


def vlans(fdb: tuple[int, int]) -> dict[str, Rows]:
    heard: Rows = {(7, 2, 0, 0, 0, 0, 9): {"port": 1, "status": 3}, (7, 2, 0, 0, 0, 0, 8): {"port": 2, "status": 4}}
    sets: Rows = {
        (0, 20): {"fdb": fdb[0], "egress": b"\xc0", "untagged": b"\x80"},
        (0, 30): {"fdb": fdb[1], "egress": b"\x40", "untagged": b"\x40"},
    }
    crosswise: Rows = {(1,): {"if_index": 22}, (2,): {"if_index": 21}}
    return {
        "ifTable": interfaces(21, 22),
        "ifXTable": named({21: "p1", 22: "p2"}),
        "dot1dBasePortTable": crosswise,
        "dot1qVlanCurrentTable": sets,
        "dot1qPortVlanTable": {(1,): {"pvid": 20}, (2,): {"pvid": 30}},
        "dot1qTpFdbTable": heard,
    }


def test_who_is_where_goes_by_bridge_port_and_fdb_id() -> None:
    """Bridge port 1 is interface 22, port 2 of the plan; FDB 7 is VLAN 20. What is the switch's own (status 4) is nobody."""
    one, two = understand(Told(vlans((7, 8)), {}, {}, 0), Shape(2)).ports
    assert (two.macs, two.pvid, two.vlans, two.untagged) == ((("02:00:00:00:00:09", 20),), 20, (20,), (20,))
    assert (one.macs, one.pvid, one.vlans, one.untagged) == ((), 30, (20, 30), (30,))
    shared = understand(Told(vlans((7, 7)), {}, {}, 0), Shape(2)).ports[1]
    assert shared.macs == (("02:00:00:00:00:09", 0),), "shared learning: the id says nothing of the VLAN"


def test_without_its_bridge_ports_nothing_is_said_of_vlans_and_addresses() -> None:
    told = {name: rows for name, rows in vlans((7, 8)).items() if name != "dot1dBasePortTable"}
    missing = {"bridge ports": "dot1dBasePortTable: it has no such table"}
    seen = understand(Told(told, missing, {}, 0), Shape(2, poe=False, tree=False))
    assert {(p.macs, p.vlans, p.pvid) for p in seen.ports} == {(None, None, None)} and not seen.addresses_told
    assert any("dot1dBasePortTable" in text for text in seen.not_told)


def test_a_table_that_breaks_off_or_contradicts_itself_is_not_told() -> None:
    def column(number: int, *index: int) -> tables.Oid:
        return (*tables.VLANS.entry, number, *index)

    whole: list[tuple[tables.Oid, tables.Value | None]] = [
        (column(n, 0, vlan), b"\xc0") for n in (4, 5) for vlan in (20, 30)
    ]
    assert set(rows_of(tables.VLANS, whole)) == {(0, 20), (0, 30)}
    for wrong, why in (
        (whole[:3], "breaks off: 1 of 2 rows"),
        ([*whole, (column(4, 0, 20), b"\x00")], "told twice"),
        ([*whole, (column(4, 0, 40), 7)], "is no bytes"),
        ([*whole, (column(4, 40), b"")], "parts in place of 2"),
        ([], "no such table"),
    ):
        with pytest.raises(NotToldError, match=why):
            rows_of(tables.VLANS, wrong)


oids = st.lists(st.integers(0, 300), max_size=12).map(tuple)
values = st.one_of(st.integers(-(2**31), 2**64), st.binary(max_size=9), oids, st.none())
bindings = st.lists(st.tuples(st.integers(1, 20), st.lists(st.integers(0, 300), max_size=8), values))


@given(st.lists(st.tuples(st.sampled_from(tables.ALL), bindings), max_size=8))
def test_whatever_a_switch_tells_is_understood_or_not_told(
    told: list[tuple[tables.Table, list[tuple[int, list[int], tables.Value | None]]]],
) -> None:
    rows: dict[str, Rows] = {}
    for table, some in told:
        with contextlib.suppress(NotToldError):
            rows[table.name] = rows_of(
                table, [((*table.entry, column, *index), value) for column, index, value in some]
            )
    seen = understand(Told(rows, {}, rows.get("ifTable", {}), 3.0), Shape(10, first_index=1, first_poe_index=1))
    assert all(p.port <= 10 and (p.rate_mbps is None or p.rate_mbps >= 0) for p in seen.ports)


def test_watts_agreed_on_are_tenths_and_belong_to_their_neighbour_whenever_it_changed() -> None:
    """As another hand's agent tells them (asked 9.5 W, allotted 12.3 W); the index begins with the time of the last change."""
    lldp_port: Rows = {(3,): {"subtype": 3, "id": bytes.fromhex("06c9985701cd"), "description": b"lap"}}
    who = b"\xb6\xc90$B0"
    rows: Rows = {(300, 3, 1): {"chassis_subtype": 4, "chassis": who, "port_subtype": 3, "port": who, "name": b"vm"}}
    told: dict[str, Rows] = {
        "ifTable": {(21,): {**interfaces(21)[21,], "mac": bytes.fromhex("06c9985701cd")}},
        "ifXTable": named({21: "p1"}),
        "lldpLocPortTable": lldp_port,
        "lldpRemTable": rows,
        "lldpXdot3RemPowerTable": {(1200, 3, 1): {"asked": 95, "allotted": 123}},
        "pethPsePortTable": {(1, 1): {"admin": 1, "detection": 3, "class": 4}},
    }
    (port,) = understand(Told(told, {}, {}, 0), Shape(1, first_poe_index=1)).ports
    assert port.neighbours[0].heard.chassis == "b6:c9:30:24:42:30" and port.poe is not None
    assert (port.poe.asked_w, port.poe.allotted_w, port.poe.power_w) == (9.5, 12.3, None)


# An LLDP frame by IEEE 802.1AB clause 8: chassis MAC 02:5a:50:00:10:05, port name "gi7", 120 s, system name, PVID 20, address.
FRAME = bytes.fromhex(
    "0207 04 025a50001005" "0404 05 676937" "0602 0078" "0a0a 70756d702d686f757365" "fe06 0080c2 01 0014"
    "100c 05 01 0a000005 02 00000007 00" "0000"
)  # fmt: skip


def test_an_lldp_frame_says_switch_port_and_vlan() -> None:
    heard = lldp.parse(FRAME)
    assert (heard.chassis, heard.port, heard.name) == ("02:5a:50:00:10:05", "gi7", "pump-house")
    assert (heard.vlan, heard.address) == (20, "10.0.0.5")
    last_words = FRAME.replace(bytes.fromhex("06020078"), bytes.fromhex("06020000"))
    assert not lldp.leaves(FRAME) and lldp.leaves(last_words)
    assert lldp.parse(lldp.serialize(heard)).chassis == heard.chassis
    for cut in (FRAME[:7], FRAME[9:], b""):
        with pytest.raises(RemoteProtocolError):
            lldp.parse(cut)


@given(st.binary(max_size=200))
def test_any_frame_is_read_or_refused(data: bytes) -> None:
    with contextlib.suppress(RemoteProtocolError):
        heard = lldp.parse(data)
        assert all(text.isprintable() for text in (heard.chassis, heard.port, heard.name, heard.port_text))


def test_day_and_night_by_the_sun() -> None:
    """Greenwich (51.48 N): at noon 90 - 51.48 +- 23.44 degrees at the solstices; at the equator overhead at the equinox."""
    noon = [sun_elevation_deg(0.0, 51.48, datetime(2026, month, 21, 12, 0, tzinfo=UTC)) for month in (6, 12)]
    assert noon == pytest.approx([61.96, 15.08], abs=0.7)
    assert sun_elevation_deg(0.0, 0.0, datetime(2026, 3, 20, 12, 7, tzinfo=UTC)) > 88
    december = [datetime(2026, 12, 1, hour, 0, tzinfo=UTC) for hour in (6, 7, 12, 17)]
    assert [is_day((2.5, 53.0), moment) for moment in december] == [False, False, True, False]
    assert [is_day(None, moment) for moment in december] == [False, True, True, True]

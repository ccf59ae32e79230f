"""How numbers with units are written: read back they say the same, and no unit is told a thousand times."""

from __future__ import annotations

import math
import re
from collections.abc import Callable

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from zentrale import quantities
from zentrale.site.values import host_or_dhcp, mac_end, normal_mac, timetable_entries, timetable_minutes

SCALE = {
    "bit/s": 1, "kbit/s": 1e3, "Mbit/s": 1e6, "Gbit/s": 1e9, "B": 1, "kB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12,
    "ms": 1e-3, "s": 1, "min": 60, "h": 3600, "days": 86_400,
}  # fmt: skip


def read_back(text: str) -> float:
    sign, parts = -1 if text.startswith("-") else 1, re.findall(r"([\d.]+) ([A-Za-z/]+)", text)
    return sign * sum(float(number) * SCALE[unit] for number, unit in parts)


@pytest.mark.parametrize(
    ("write", "most"), [(quantities.bitrate, 1e12), (quantities.size, 1e15), (quantities.seconds, 3e7)]
)
@given(st.floats(0, 1))
@example(0.99996e-3)
@example(0.999999e-6)
def test_a_quantity_says_what_it_is_to_a_part_in_twenty(
    write: Callable[[float], str], most: float, part: float
) -> None:
    """Over all sizes alike: two digits at least, and a larger quantity never reads smaller."""
    value = most * 10 ** (-15 * (1 - part)) if part > 1e-3 else most * part
    text, more = write(value), write(value * 1.1)
    assert math.isclose(read_back(text), value, rel_tol=0.05, abs_tol=0.5e-3 if write is quantities.seconds else 0.5), (
        text
    )
    assert read_back(more) >= read_back(text), (text, more)
    assert write(-value) in (f"-{text}", text), "the sign is kept"
    first = float(text.split()[0])
    assert first < 1000 or text.endswith((" Gbit/s", " TB")), text


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        (quantities.bitrate(999_499), "999 kbit/s"),
        (quantities.bitrate(999_500), "1.0 Mbit/s"),
        (quantities.bitrate(999.6), "1.0 kbit/s"),
        (quantities.bitrate(960), "960 bit/s"),
        (quantities.bitrate(99.96e6), "100 Mbit/s"),
        (quantities.bitrate(-12_340_000), "-12.3 Mbit/s"),
        (quantities.size(999_949), "999.9 kB"),
        (quantities.size(999_960), "1.0 MB"),
        (quantities.size(1023), "1.0 kB"),
        (quantities.seconds(0.9996), "1.0 s"),
        (quantities.seconds(0.9994), "999 ms"),
        (quantities.seconds(119.94), "119.9 s"),
        (quantities.seconds(119.96), "2 min"),
        (quantities.seconds(200), "3 min 20 s"),
        (quantities.seconds(7199.6), "2 h 00 min"),
        (quantities.seconds(-7500), "-2 h 05 min"),
        (quantities.seconds(172_800), "2.0 days"),
        (quantities.seconds(172_769), "47 h 59 min"),
        (quantities.difference(-150), "2 min 30 s behind"),
        (quantities.difference(9.4), "9 s ahead"),
        (quantities.difference(2 * 86_400 + 3700), "2 days 1 h ahead"),
        (quantities.share(1, 3), "33 %"),
        (quantities.share(1, 0), "-"),
        (quantities.listed(["a", "b", "c"], 2), "a, b and 1 more"),
        (quantities.listed(["a", "b"], 2), "a, b"),
        (quantities.ranges([7, 8, 9, 12, 14, 15]), "7-9, 12, 14-15"),
        (quantities.ranges([]), ""),
        (quantities.count(1, "switch"), "1 switch"),
        (quantities.count(2, "switch"), "2 switches"),
        (quantities.count(0, "entry"), "0 entries"),
        (quantities.count(3, "relay"), "3 relays"),
        (quantities.count(2, "mast", "masts up"), "2 masts up"),
    ],
)
def test_as_a_person_says_it(text: str, wanted: str) -> None:
    assert text == wanted


@given(st.lists(st.tuples(st.integers(0, 6), st.integers(0, 1439), st.integers(1, 1440)), max_size=6))
def test_hours_of_a_week_are_the_same_when_they_are_written_and_read(spans: list[tuple[int, int, int]]) -> None:
    minutes = {(1440 * day + begin + m) % 10_080 for day, begin, length in spans for m in range(length)}
    entries = timetable_entries(minutes)
    assert set().union(*map(timetable_minutes, entries)) == minutes
    assert sum(len(timetable_minutes(entry)) for entry in entries) == len(minutes), "nothing twice"


@pytest.mark.parametrize(("entry", "covered"), [
    ("Mon 00:00-00:01", {0}), ("Sun 23:59-24:00", {10_079}), ("Sun 23:59-00:01", {10_079, 0}),
    ("Sat-Mon 12:00-12:01", {5 * 1440 + 720, 6 * 1440 + 720, 720}), ("tue-TUE 01:00-01:02", {1500, 1501}),
])  # fmt: skip
def test_hours_of_a_week_by_hand(entry: str, covered: set[int]) -> None:
    assert timetable_minutes(entry) == covered


@pytest.mark.parametrize(
    "entry", ["", "Mon", "Mon 24:01-25:00", "Mon 07:60-08:00", "Mon-Fun 07:00-08:00", "Mon 7:00-8:00", "Mon 07:00"]
)
def test_hours_that_nobody_can_read_are_refused_with_an_example(entry: str) -> None:
    with pytest.raises(ValueError, match="expected"):
        timetable_minutes(entry)


@pytest.mark.parametrize(
    "text", ["02:5A:10:00:00:11", "025a.1000.0011", "02-5a-10-00-00-11", "025A10000011", " 02 5a 10 00 00 11 "]
)
def test_a_mac_address_in_any_spelling(text: str) -> None:
    assert normal_mac(text) == "02:5a:10:00:00:11" and mac_end(text[-6:]).isalnum()
    for wrong in (text[:-2], text + "f", text.replace("5", "g", 1), "", text + "/24"):
        with pytest.raises(ValueError, match="expected a MAC address"):
            normal_mac(wrong)


@pytest.mark.parametrize(("text", "good"), [
    ("time.example", True), ("10.20.0.5", True), ("DHCP", True), ("", True), ("fd00::1", True), ("-a.example", False),
    ("a..b", False),     ("a b", False), ("x" * 64, False), ("http://a", False), ("a_b", False),
])  # fmt: skip
def test_a_host_is_an_address_a_name_or_dhcp(text: str, good: bool) -> None:
    if good:
        assert host_or_dhcp(text) == text.lower()
    else:
        with pytest.raises(ValueError, match="expected an address"):
            host_or_dhcp(text)

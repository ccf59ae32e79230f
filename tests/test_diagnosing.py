"""Where a camera's way breaks, and whose fault it is: every fault of the stand-in against a table written by hand, and what is
pure by numbers worked out by hand.
"""

from __future__ import annotations

import runpy
import struct
import zipfile
from collections.abc import Callable, Iterable
from ipaddress import IPv4Network
from pathlib import Path
from typing import Any

import pytest

from conftest import CAMERAS, SECRETS, SITE, TYPES, make_site, zentrale
from zentrale.field.adapters import Adapter
from zentrale.field.knocking import Knock, Knocked
from zentrale.field.visit import Visit
from zentrale.findings.catalogue import entry
from zentrale.jobs.checks.seen import ChannelResult, StreamResult, Target
from zentrale.jobs.diagnosing.climbing import Climb
from zentrale.jobs.diagnosing.diagnosis import concluded
from zentrale.jobs.diagnosing.ground import Ground
from zentrale.jobs.diagnosing.judging_address import judge_address, judge_ports
from zentrale.jobs.diagnosing.judging_device import judge_service
from zentrale.jobs.diagnosing.judging_reach import judge_link, judge_plan, reach
from zentrale.jobs.diagnosing.judging_recording import RecordingSeen, judge_recording
from zentrale.jobs.diagnosing.judging_streams import StreamsSeen, judge_stream
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.recorders.driver import ChannelSample
from zentrale.jobs.streams.judging import judge_delivery
from zentrale.protocols.onvif.recording_jobs import JobState
from zentrale.protocols.onvif.search import Stored
from zentrale.protocols.rtcp import SenderReport
from zentrale.protocols.streams.figures import Pause
from zentrale.protocols.streams.loss_places import LossPlaces, LossWatch
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan

TOOL: dict[str, Any] = runpy.run_path(str(Path(__file__).parent.parent / "tools" / "faults_page.py"))

# By the fault: the lowest layer that breaks, and who has to act.
TABLE = {
    "cable-out": ("link", "network"),
    "default-address": ("address", "camera"),
    "duplicate-address": ("address", "network"),
    "ports-closed": ("port", "camera"),
    "onvif-only": ("port", "camera"),
    "rtsp-only": ("port", "camera"),
    "late": ("service", "camera"),
    "clock-off": ("service", "camera"),
    "locked": ("access", "password"),
    "other-password": ("access", "password"),
    "profile-gone": ("stream", "camera"),
    "describe-404": ("stream", "camera"),
    "no-session": ("stream", "camera"),
    "no-packets": ("stream", "camera"),
    "udp-dead": ("stream", "network"),
    "loses-before-network": ("loss", "camera"),
    "loses-in-network": ("loss", "network"),
    "stops": ("stream", "camera"),
    "black": ("picture", "camera"),
    "frozen": ("picture", "camera"),
    "turned": ("picture", "camera"),
    "other-picture": ("picture", "plan"),
    "recorder-password": ("recording", "password"),
    "recorder-address": ("recording", "recorder"),
    "recorder-job": ("recording", "recorder"),
    "recorder-keeps-nothing": (None, None),  # not before a minute has passed: some write what they keep no sooner
    "pair-1": ("service", "camera"),  # its clock is off, and its picture black
    "pair-2": ("stream", "camera"),  # no packets, so that its job in error follows
    "pair-3": ("service", "camera"),  # late, and an old password in the recorder
    **dict.fromkeys(("far-1", "far-2", "far-3"), ("address", "network")),
    **dict.fromkeys(("well-1", "well-2", "well-3"), (None, None)),
}
ALSO = {"pair-1": ["DGN-36"]}


@pytest.mark.long
def test_each_fault_is_found_at_its_layer_and_no_other(tmp_path: Path) -> None:
    """Two rounds while all are well, then all faults at once, each at a camera of its own."""
    site = tmp_path / "site"
    with TOOL["brought_to_plan"](site) as playing:
        for names in (("well-*", "far-*"), ("well-*", "recorder")):
            assert TOOL["accused"](TOOL["diagnosed"](site, *names)) == []
        TOOL["break_all"](playing)
        broken = TOOL["diagnosed"](site)
        found = {c["camera"]: c for c in broken["cameras"]}
        for _ in range(3):  # what a busy machine had no time for is not known, and asked again
            again = [name for name, c in found.items() if _verdict(c) != TABLE.get(name) and "not known" in _states(c)]
            found |= {c["camera"]: c for c in (TOOL["diagnosed"](site, *again)["cameras"] if again else ())}
    seen = {name: _verdict(c) for name, c in found.items()}
    assert {name: pair for name, pair in seen.items() if TABLE[name] != pair} == {} and set(seen) == set(TABLE)
    assert {name: [a["code"] for a in c["also"]] for name, c in found.items() if c["also"]} == ALSO
    assert [(c["what"], c["cameras"]) for c in broken["common"]] == [("switch far", ["far-1", "far-2", "far-3"])]


def _verdict(camera: dict[str, Any]) -> tuple[str | None, str | None]:
    return camera["broken_at"], camera["blame"]


def _states(camera: dict[str, Any]) -> list[str]:
    return [layer["state"] for layer in camera["layers"]]


def _packets(numbers: Iterable[int], stamp: Callable[[int], int] = lambda n: n * 3600) -> bytes:
    """As they lie in the buffer: "$", channel and length, then the first 16 bytes of each (RFC 3550 clause 5.1)."""
    heads = [
        struct.pack("!BBHBBHIII", 0x24, 0, 1200, 0x80, 96, n & 0xFFFF, stamp(n) & 0xFFFFFFFF, 7, 0) for n in numbers
    ]
    return b"".join(heads)


def _watched(numbers: list[int], first: tuple[int, int], last: tuple[int, int], *, in_order: bool = True) -> LossPlaces:
    """Two reports, each after so many packets and with such a count; their time stamps are those of the packet before."""
    watch = LossWatch(in_order=in_order)
    for begin in range(0, len(numbers), 7):
        watch.take(_packets(numbers[begin : begin + 7]))
    for after, count in (first, last):
        watch.report(SenderReport(7, 0.0, numbers[after - 1] * 3600 & 0xFFFFFFFF, count & 0xFFFFFFFF, 0), after)
    found = watch.result(7)
    assert found is not None
    return found


@pytest.mark.parametrize("in_order", [True, False])
def test_what_was_numbered_counted_and_came_tells_where_it_was_lost(in_order: bool) -> None:
    """A hundred numbers across the wrap of 16 bits, of which every tenth does not come: sent 90 by its count, or 100."""
    came = [n for n in range(65_500, 65_601) if n % 10 != 5]
    end = len(came) - 1  # in front of the last one: a report stands between packets
    numbered = came[end - 1] - came[0]
    never_sent = _watched(came, (1, 0xFFFFFFF0), (end, 0xFFFFFFF0 + end - 1), in_order=in_order)
    assert (never_sent.numbered, never_sent.sent, never_sent.received) == (numbered, end - 1, end - 1)
    assert (never_sent.before_network, never_sent.in_network) == (numbered - end + 1, 0)
    on_the_way = _watched(came, (1, 5), (end, 5 + numbered), in_order=in_order)
    assert (on_the_way.before_network, on_the_way.in_network) == (0, numbered - end + 1)
    watch = LossWatch(in_order=True)
    watch.report(SenderReport(7, 0.0, 0, 7, 0), 0)  # before its first packet
    watch.take(_packets(came))
    watch.report(SenderReport(7, 5.0, 0, 7 + len(came), 0), len(came))
    whole = watch.result(7)
    assert whole is not None and (whole.sent, whole.received) == (len(came), len(came))
    assert whole.before_network == 10 and whole.in_network == 0
    assert on_the_way.in_words() == "evenly, one in 10" and not on_the_way.in_bursts
    one_report = LossWatch(in_order=in_order)
    one_report.take(_packets([*range(50), *range(70, 90), *range(110, 150)]))
    burst = one_report.result(7)
    assert burst is not None and burst.in_words() == "in 2 bursts of up to 20 packets"
    assert (burst.before_network, burst.in_network, one_report.result(8)) == (None, None, None)


LAPTOP = Adapter("eth0", "10.77.0.5", IPv4Network("10.77.0.0/24"))


def _plan(folder: Path, address: str = "10.77.0.11", mac: str = "02:00:00:00:00:11") -> Plan:
    site = SITE.replace("127.0.71.0/27", "10.77.0.0/24").replace("127.0.71.", "10.77.0.")
    rows = (
        CAMERAS.replace("127.0.71.11", address).replace("127.0.71.12", "10.77.0.12").replace("02:5a:71:00:00:11", mac)
    )
    types = TYPES.replace('name = "larch-2"\n', 'name = "larch-2"\ndefault_address = "10.77.0.100"\n')
    return read_plan(SiteFolder(make_site(folder, site, rows, types)))


def _ground(
    doors: dict[tuple[str, int], Knocked], macs: dict[str, tuple[str, ...]], told: dict[str, set[str]] | None = None
) -> Ground:
    hosts = {host for host, _ in doors}
    knocks = {pair: Knock(*pair, outcome) for pair, outcome in doors.items()}
    endpoints = {host: frozenset(own) for host, own in (told or {}).items()}
    return Ground((LAPTOP,), knocks, endpoints, True, macs, frozenset(h for h in hosts if LAPTOP.holds(h)))


def _doors(host: str, web: Knocked, stream: Knocked) -> dict[tuple[str, int], Knocked]:
    others = Knocked.NOBODY if web is Knocked.NOBODY else Knocked.REFUSED
    return {(host, 80): others, (host, 8080): web, (host, 554): others, (host, 8554): stream}


OWN, OTHER, HERE, DEFAULT = "02:00:00:00:00:11", "02:00:00:00:99:11", "10.77.0.11", "10.77.0.100"
OPEN, REFUSED, SILENT, NOBODY = Knocked.OPEN, Knocked.REFUSED, Knocked.SILENT, Knocked.NOBODY


@pytest.mark.parametrize(
    ("doors", "macs", "code", "blame"),
    [
        (_doors(HERE, OPEN, OPEN), {HERE: (OWN,)}, None, None),
        (_doors(HERE, NOBODY, NOBODY), {}, "DGN-3", "network"),
        (_doors(HERE, OPEN, OPEN), {HERE: (OWN, OTHER)}, "DGN-7", "network"),
        (_doors(HERE, OPEN, OPEN), {HERE: (OTHER,)}, "DGN-8", "plan"),
        (_doors(HERE, NOBODY, NOBODY) | _doors(DEFAULT, OPEN, OPEN), {DEFAULT: (OWN,)}, "DGN-6", "camera"),
        (_doors(HERE, OPEN, OPEN) | _doors(DEFAULT, OPEN, OPEN), {HERE: (OWN,), DEFAULT: (OTHER,)}, None, None),
        (_doors(HERE, OPEN, REFUSED), {HERE: (OWN,)}, "DGN-11", "camera"),
        (_doors(HERE, OPEN, SILENT), {HERE: (OWN,)}, "DGN-11", "network"),
        (_doors(HERE, REFUSED, OPEN), {HERE: (OWN,)}, "DGN-12", "camera"),
        (_doors(HERE, REFUSED, REFUSED), {HERE: (OWN,)}, "DGN-13", "camera"),
        (_doors(HERE, SILENT, SILENT), {HERE: (OWN,)}, "DGN-13", "network"),
    ],
)
def test_up_to_the_ports_by_what_the_link_tells(
    tmp_path: Path, doors: dict[tuple[str, int], Knocked], macs: dict[str, tuple[str, ...]], code: str, blame: str
) -> None:
    plan = _plan(tmp_path / "site")
    row, ground = plan.camera("north"), _ground(doors, macs)
    at = reach(plan, row, None, ground)
    judged = [
        judge_plan(plan, row, []), judge_link(row, at, ground), judge_address(plan, row, None, at, ground),
        judge_ports(row, None, at, ground, onvif=True),
    ]  # fmt: skip
    found = concluded(ref_of(row), judged, address=at.host)
    trouble = found.trouble
    assert (trouble and trouble.code, trouble and trouble.blame.value) == (code, blame)
    assert trouble is None or (entry(code) and 1 <= len(trouble.causes) <= 3 and found.phone.endswith(trouble.next))


@pytest.mark.parametrize(
    ("answered_s", "own_s", "code"),
    [
        (0.2, 0.0, None),
        (3.9, 0.0, None),
        (6.0, 0.3, "DGN-16"),
        (6.0, 2.5, None),
        (None, 0.3, "DGN-16"),
        (None, 4.0, None),
    ],
)
def test_what_this_machine_had_no_time_for_makes_no_device_late(
    tmp_path: Path, answered_s: float | None, own_s: float, code: str | None
) -> None:
    """Late is more than 4 s of its own; where nothing came within 7 s, that is what it took at the least."""
    plan = _plan(tmp_path / "site")
    climb = Climb("http://10.77.0.11/", answered_s=answered_s, own_s=own_s, offset_s=0.0, out_of_time=answered_s != 0.2)
    seen, trouble = judge_service(plan.camera("north"), climb, plan.policy)
    assert (trouble and trouble.code) == code
    assert (seen.state.value == "not known") == (own_s > 2)


@pytest.mark.parametrize(("late_s", "paused", "state", "code"), [
    (0.0, False, "holds", None), (0.0, True, "breaks", "DGN-28"), (3.0, False, "holds", None), (3.0, True, "not known", None),
])  # fmt: skip
def test_a_stream_that_paused_while_this_machine_was_late_neither_holds_nor_breaks(
    tmp_path: Path, late_s: float, paused: bool, state: str, code: str | None
) -> None:
    plan = _plan(tmp_path / "site")
    camera = plan.camera("north")
    pauses = (Pause(3.0, 2.5, 0.05, ends=False),) if paused else ()
    measured = StreamMeasurement(
        transport="tcp", codec="H264", fps=20.0, packets_received=900, packets_expected=900, measured_s=3.0, frames=60,
        pauses=pauses, longest_gap_s=2.5 if paused else 0.1, own_lateness_s=late_s,
    )  # fmt: skip
    found = tuple(judge_delivery("s", measured, plan.policy, decoded=True))
    climb = Climb(by_rtsp=True, target=Target(camera, "", Visit(), {}))
    judged, trouble = judge_stream(
        plan, camera, climb, StreamsSeen([StreamResult("north", "main", "", measured, "", found)])
    )
    assert (judged.state.value, trouble and trouble.code) == (state, code)


def test_a_network_that_this_machine_is_not_in_accuses_no_camera(tmp_path: Path) -> None:
    plan = _plan(tmp_path / "site")
    elsewhere = Adapter("eth0", "192.168.1.5", IPv4Network("192.168.1.0/24"))
    ground = Ground((elsewhere,), {(HERE, p): Knock(HERE, p, Knocked.NO_WAY) for p in (80, 8080, 554, 8554)})
    row = plan.camera("north")
    _, trouble = judge_address(plan, row, None, reach(plan, row, None, ground), ground)
    assert trouble is not None and (trouble.code, trouble.blame.value) == ("DGN-9", "this machine")
    assert "10.77.0.254/24" in trouble.next


@pytest.mark.parametrize(
    ("error", "code", "blame"),
    [
        ("E-21 (DESCRIBE was refused: 401 Unauthorized)", "DGN-45", "password"),
        ("login failed", "DGN-45", "password"),
        ("connection timed out", "DGN-49", "network"),
        ("no licence for this channel", "DGN-50", "recorder"),
    ],
)
def test_whose_fault_a_recorder_in_error_is_by_its_own_words(tmp_path: Path, error: str, code: str, blame: str) -> None:
    plan = _plan(tmp_path / "site")
    camera = plan.camera("north")
    channel = ChannelResult("recorder", 1, "north", "Error", None, records=False)
    held = ChannelSample(
        "north", "rtsp://10.77.0.11/live/main", JobState("Error", error), Stored(None, None, "Present")
    )
    seen, trouble = judge_recording(plan, camera, RecordingSeen(channel, held), StreamsSeen(), plays=True)
    assert trouble is not None and (trouble.code, trouble.blame.value) == (code, blame) and error in seen.seen


def test_without_vault_and_discovery_it_says_what_it_can_and_packs_it_without_any_password(
    ready_site: Path, stand_in: None
) -> None:
    for words, said in (
        (("diagnose",), "which device?"), (("diagnose", "nort"), "did you mean north?"),
        (("diagnose", "recordr"), "did you mean recorder?"), (("diagnose", "--all", "north"), "names do not go with --all"),
    ):  # fmt: skip
        shown = zentrale(*words, cwd=ready_site)
        assert shown.code == 2 and said in shown.err, shown.all
    (ready_site / "vault.bin").rename(ready_site / "kept")
    shown = zentrale("diagnose", "south", cwd=ready_site)
    assert shown.code == 1 and "breaks at the service: its clock is 2 h 00 min behind" in shown.out
    for said in ("no vault is here", "nothing was discovered yet"):
        assert said in shown.err
    (ready_site / "kept").rename(ready_site / "vault.bin")
    pack = ready_site / "south.zip"
    told = zentrale("diagnose", "south", "--json", "--bundle", str(pack), cwd=ready_site)
    (one,) = told.json["cameras"]
    assert {"camera", "broken_at", "blame", "code", "says", "causes", "next", "layers"} <= set(one)
    assert (one["broken_at"], one["blame"], one["code"]) == ("service", "camera", "DGN-17")
    assert [s["layer"] for s in one["layers"]] == [layer.word for layer in Layer] and pack.stat().st_mode & 0o77 == 0
    with zipfile.ZipFile(pack) as packed:
        assert {"diagnosis.json", "diagnosis.txt", "machine.json", "plan/cameras.csv"} <= set(packed.namelist())
        everything = b"".join(packed.read(name) for name in packed.namelist())
    assert not [secret for secret in SECRETS if secret.encode() in everything]
    assert zentrale("diagnose", "south", "--bundle", str(pack), cwd=ready_site).code == 2, "it is there already"


def test_where_nothing_of_the_site_answers_it_is_no_cameras_fault(ready_site: Path) -> None:
    shown = zentrale("diagnose", "north", cwd=ready_site)
    assert shown.code == 3 and "nothing of the site answers" in shown.err


def test_faults_are_named_and_refused_where_they_do_not_fit() -> None:
    for given, said in (
        ("swing-bridge", "expected DEVICE:NAME"), ("swing-bridge:blak", "did you mean black?"),
        ("swing-brige:black", "did you mean swing-bridge?"), ("pump-house:black", "a fault of a camera"),
        ("swing-bridge:default-address", "names no default_address"),
    ):  # fmt: skip
        shown = zentrale("simulate", "--fault", given)
        assert shown.code == 2 and said in " ".join(shown.err.split()), shown.all
    assert "recorder-keeps-nothing" in zentrale("simulate", "--fault", "list").out

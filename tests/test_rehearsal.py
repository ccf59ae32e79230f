"""The written network on software switches: what packets show of a right plan, and of each classic slip."""

from __future__ import annotations

import signal
import subprocess
import sys
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psutil
import pytest

from conftest import Result, program
from network_site import CAMERAS, SITE, on_packets, six
from zentrale.field.lab.servers import radius_tool
from zentrale.jobs.network.rehearsal.slips import SLIPS
from zentrale.jobs.network.rehearsal.trial import arriving
from zentrale.protocols import dhcp, frames


def rehearsed(folder: Path, *arguments: str) -> Result:
    return program("network", "rehearse", "--json", *arguments, cwd=folder)


@on_packets
def test_packets_go_as_planned_and_nothing_else_does(tmp_path: Path) -> None:
    folder = six(tmp_path)
    done = rehearsed(folder)
    assert done.code == 0, done.all
    told = done.json
    assert told["findings"] == [] and told["stations"] == 8 and told["pairs_tried"] > 300
    cells = {(c["from_zone"], c["to_zone"], c["to_kind"]): c for c in told["cells"]}
    assert (
        cells["cameras", "recording", "recorder"]["pairs_through"],
        cells["cameras", "cameras", "camera"]["pairs_through"],
    ) == (4, 0)
    office = cells["office", "control", "recorder"]
    assert office["by"] == ["tcp/554"], "its rule names a port: the datagrams that were tried too are dropped"
    assert "udp/5004" in cells["office", "internet", "internet"]["by"]
    given = {d["client"]: d["given"] for d in told["dhcp"]}
    assert given["east-1"] == "10.30.0.11" and given["west-1"] == "10.30.0.13"
    pool = {f"10.30.0.{n}" for n in range(200, 211)}
    assert given["west-2"] in pool, "without a MAC address in the plan it is a stranger"
    edges = {c.rpartition("wants ")[2]: g for c, g in given.items() if "wants" in c}
    assert (edges["10.30.0.200"], edges["10.30.0.210"]) == ("10.30.0.200", "10.30.0.210")
    assert {edges["10.30.0.199"], edges["10.30.0.211"]} < pool, "what is beside the pool is given to nobody"
    groups = told["multicast"]["groups"]
    assert {bool(g["joined"]) for g in groups} == {True, False} and all(g["got"] == g["joined"] for g in groups)


# What each slip is found as: the code, and what is named as its cause. Nothing else is.
FOUND = {
    "wrong-vlan": {("NET-2", "port east:1 (east-1)")},
    "trunk-without-zone": {("NET-2", "port east:9")},
    "per-switch-protection": {("NET-1", "switch east"), ("NET-1", "switch west")},
    "recorder-forwards": {("NET-1", "recorder recorder")},
    "second-dhcp": {("NET-4", "zone recording")},
    "no-querier": {("NET-8", "zone control")},
    "duplicate-address": {("NET-5", "address 10.30.0.11")},
    "ring": {("NET-6", "port core:6"), ("NET-6", "port east:3")},
}


@pytest.mark.long
@on_packets
def test_each_slip_is_found_with_its_cause_and_nothing_else_is(tmp_path: Path) -> None:
    """Several at once, beside one whose plan is wrong by itself: a rehearsal mostly waits, and they do not meet."""
    sites = {slip: six(tmp_path / slip, wall=slip == "no-querier", site=_with_box(slip)) for slip in FOUND}
    outside = six(tmp_path / "outside", wall=False, cameras=CAMERAS.replace("10.30.0.13", "10.31.0.13"))
    with ThreadPoolExecutor(4) as pool:
        runs = {slip: pool.submit(rehearsed, folder, "--break", slip) for slip, folder in sites.items()}
        wrong = pool.submit(program, "network", "rehearse", cwd=outside, COLUMNS="80")
    for slip, run in runs.items():
        done = run.result()
        assert done.code == 1 and done.json["broken_on_purpose"], done.all
        assert {(f["code"], f["subject"]) for f in done.json["findings"] if not f["caused_by"]} == FOUND[slip], (
            slip,
            done.out,
        )
    told = " ".join(wrong.result().out.split())
    assert (
        told.startswith("FAULTS 1 fault; 8 devices") and "camera west-1: packets do not reach what they should" in told
    )
    assert (
        "10.31.0.13 lies outside of 10.30.0.0/24" in told
        and "give it an address of 10.30.0.0/24 in cameras.csv line 4" in told
    )
    assert "follows: NET-3 device west-1" in told, "one cause, one finding, and what follows beneath it"
    assert (outside / "output/rehearsal.png").read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"


# Slips that somebody makes in the files: what is changed into what, and what is found. All of one site at once.
MORE = """\
[[viewers]]
name = "desk"
zone = "control"
switch = "east"
port = 7
[[rules]]
from = "office"
to = "internet"
protocol = "udp"
allow = false
[[rules]]
from = "office"
to = "internet"
[[rules]]
from = "control"
to = "office"
protocol = "tcp"
port = "8000-8010"
"""
WIDE = SITE.replace("[policy]", '[policy]\nauthentication = "mac-bypass"').replace(
    '[[rules]]\nfrom = "office"\nto = "internet"\n', ""
)
WIDE = WIDE.replace('address = "10.40.0.21" }', 'address = "10.40.0.21", mac = "02:5a:71:00:00:22" }') + MORE
STRANGER = "a stranger at the port of east-1 that wants 10.30.0.210"
OFFICE = "router, rule 1: office to recorder in control"
CORE, EAST, WEST = (f"{name}/openvswitch.sh" for name in ("core", "east", "west"))
IN_FILES: list[list[tuple[str, str, str, str, str]]] = [
    [
        ("router.nft", "tcp dport 8000-8010", "tcp dport 8000-8009", "NET-2", "router, rule 4: control to office"),
        ("dhcp/control.conf", ",10.40.0.21,", ",10.40.0.22,", "NET-3", "device recorder-viewing"),
        (EAST, "p1 vlan_mode=access tag=20", "p1 vlan_mode=access tag=30", "NET-9", "port east:1 (east-1)"),
        ("core/querier.sh", "  ovs-ofctl packet-out core", "  : ovs-ofctl packet-out core", "NET-8", "zone control"),
    ],
    [
        ("router.nft", "tcp dport 554 ", "tcp dport 554-555 ", "NET-1", OFFICE),
        ("recorder.nft", "policy drop", "policy accept", "NET-1", "recorder recorder"),
        ("dhcp/recording.conf", ",10.30.0.210,", ",10.30.0.209,", "NET-3", STRANGER),
        (EAST, "table=30,reg0=20,actions=", "table=30,reg0=20,actions=output:1,output:2,", "NET-1", "switch east"),
    ],
    [
        ("router.nft", "meta l4proto udp drop", "meta l4proto udp accept", "NET-1", "router, rule 2: office to internet"),
        (EAST, "p9 vlan_mode=trunk trunks", "p9 vlan_mode=native-untagged tag=40 trunks", "NET-2", "port east:9"),
        ("recorder.nft", "ip daddr 10.40.0.21 drop", "ip daddr 10.40.0.22 drop", "NET-1", "recorder recorder"),
        ("dhcp/control.conf", "option:router,10.40.0.1", "option:router,10.40.0.9", "NET-17", "zone control, gateway"),
    ],
    [
        (CORE, "trunks=30,20,40", "trunks=30,20", "NET-2", "port core:1"),
        (CORE, "10.50.0.1/24", "10.50.0.2/24", "NET-15", "gateway of zone office"),
        *([("radius-users.txt", 'Group-Id = "20"', 'Group-Id = "50"', "NET-16", "port east:1 (east-1)")] * bool(radius_tool())),
    ],
]  # fmt: skip


@pytest.mark.long
@on_packets
def test_slips_in_the_files_are_found_with_their_lines_and_the_files_stay_as_they_are(tmp_path: Path) -> None:
    folders, lines = [], []
    for number, slips in enumerate(IN_FILES):
        folder = six(tmp_path / str(number), site=WIDE)
        assert program("network", "write", cwd=folder).code in (0, 1)
        at = folder / "output" / "network"
        for file, old, new, _, _ in slips:
            text = (at / file).read_text()
            assert old in text, (old, text)
            (at / file).write_text(text.replace(old, new, 1))
        folders.append(folder)
        lines.append({s[0] + s[2]: _line((at / s[0]).read_text(), s[2]) for s in slips})
    before = [_contents(folder) for folder in folders]
    with ThreadPoolExecutor(4) as pool:
        runs = [pool.submit(rehearsed, folder) for folder in folders]
    for slips, run, where in zip(IN_FILES, runs, lines, strict=True):
        done = run.result()
        assert done.code == 1, done.all
        found = {(f["code"], f["subject"], f["at"]) for f in done.json["findings"] if not f["caused_by"]}
        assert found == {
            (code, subject, f"{file} line {where[file + new]}") for file, _, new, code, subject in slips
        }, done.out
        assert {f["path"] for f in done.json["files"] if f["state"] == "edited"} == {slip[0] for slip in slips}
    assert [_contents(folder) for folder in folders] == before, "nothing is written where it looks"
    follows = [
        f["caused_by"] for f in runs[3].result().json["findings"] if f["code"] in ("NET-3", "NET-7") and f["caused_by"]
    ]
    assert set(follows) <= {"NET-2 port core:1", "NET-15 gateway of zone office"}


def _line(text: str, words: str) -> int:
    return next(i for i, line in enumerate(text.splitlines(), 1) if words in line)


def _contents(folder: Path) -> dict[str, bytes]:
    files = (folder / "output" / "network").rglob("*")
    return {str(f): f.read_bytes() for f in files if f.is_file()}


@on_packets
def test_what_is_missing_older_or_refused_is_said(tmp_path: Path) -> None:
    folder = six(tmp_path, wall=False)
    assert program("network", "write", cwd=folder).code == 0
    at = folder / "output" / "network"
    (at / "router.nft").write_text((at / "router.nft").read_text().replace("tcp dport 554", "tcp dprt 554"))
    (at / "recorder.nft").unlink()
    site = folder / "site.toml"
    site.write_text(site.read_text().replace("time_server = ", "# time_server = "))
    (folder / "output" / "rehearsal.png").mkdir()
    stood = (at / "dhcp/recording.conf").read_bytes()
    with ThreadPoolExecutor(2) as pool:
        runs = [pool.submit(rehearsed, folder), pool.submit(program, "network", "rehearse", "--as-planned", cwd=folder)]
    told = runs[0].result()
    assert (told.code, {f["path"]: f["state"] for f in told.json["files"] if f["state"] != "as written"}) == (1, {
        "recorder.nft": "written now", "router.nft": "edited", "dhcp/recording.conf": "older than the plan",
        "dhcp/kea-dhcp4.json": "older than the plan",
    })  # fmt: skip
    (refused,) = [f for f in told.json["findings"] if f["code"] == "NET-18"]
    assert (refused["subject"], refused["at"]) == ("router.nft", "router.nft line 9")
    assert "recorder.nft" in told.err and "rehearsed as it stands" in told.err and (at / "recorder.nft").exists()
    assert {"file": "router.nft", "why": "refused by the program that it is for"} in told.json["not_tried"]
    fresh = runs[1].result()
    assert fresh.code == 0 and (at / "dhcp/recording.conf").read_bytes() == stood
    assert fresh.out.startswith("OK") and "no figure of plan and packets" in fresh.err, "which ends nothing"


@on_packets
def test_a_rehearsal_that_is_told_to_end_ends_and_leaves_nothing(tmp_path: Path) -> None:
    folder = six(tmp_path)
    begun = subprocess.Popen(
        [sys.executable, "-m", "zentrale", "network", "rehearse"], cwd=folder, stderr=subprocess.PIPE, text=True
    )
    assert begun.stderr is not None
    while "who reaches whom" not in begun.stderr.readline():
        assert begun.poll() is None
    mine = [p for p in psutil.Process(begun.pid).children(recursive=True) if "ovs" in p.name()]
    begun.terminate()
    assert begun.wait(5) == -signal.SIGTERM and len(mine) >= 6
    assert not psutil.wait_procs(mine, timeout=5)[1]


def _with_box(slip: str) -> str:
    """For a second DHCP server: somebody's device beside the recorder."""
    box = '[[viewers]]\nname = "box"\nzone = "recording"\nswitch = "core"\nport = 7\n'
    return SITE + (box if slip == "second-dhcp" else "")


RING = (
    SITE.replace('type = "switch-8"\n', 'type = "switch-8"\nloop_protection = "rstp"\n')
    + '[[links]]\na = "east:10"\nb = "west:10"\nrate_mbps = 1000\n'
)
SLOW = SITE.replace('b = "west:9"\nrate_mbps = 1000', 'b = "west:9"\nrate_mbps = 10').replace(
    "bitrate_kbps = 300", "bitrate_kbps = 6000"
)


@pytest.mark.long
@on_packets
def test_failures_load_and_commands_inside(tmp_path: Path) -> None:
    """Against the plan's own figures: parts taken away one by one, streams over links; and a commissioning from a laptop."""
    ring, slow = six(tmp_path / "ring", wall=False, site=RING), six(tmp_path / "slow", wall=False, site=SLOW)
    plain, isolated = six(tmp_path / "plain", wall=False), six(tmp_path / "isolated", wall=False)
    inside = ["--run", "discover", "--run", "register", "--run", "verify --seconds 3"]
    with ThreadPoolExecutor(2) as pool:
        failures = pool.submit(rehearsed, ring, "--failures")
        load = pool.submit(rehearsed, slow, "--load")
        commands = pool.submit(program, "network", "rehearse", *inside, cwd=plain)
        shut_in = pool.submit(program, "network", "rehearse", "--run", "discover", "--from", "office", cwd=isolated)
    told = failures.result().json
    assert told["findings"] == [], failures.result().all
    by_part = {f["part"]: f for f in told["failures"]}
    assert len(by_part["switch core"]["lost"]) == 4 and by_part["switch east"]["lost"] == ["east-1", "east-2"]
    healed = by_part["link core:1 - east:9"]
    assert healed["lost"] == [] and 0 < healed["healed_s"] < 9, "by way of the other switch"
    told = load.result().json
    assert told["divided_by"] == 3, "24 Mbit/s recorded and as much sent on, of which this machine carries 16"
    links = {link["link"]: link for link in told["links"]}
    fits, full = links["core:1 - east:9"], links["core:2 - west:9"]
    assert set(links) > {"core:3 recorder", "core:5 wall"} and len(told["streams"]) == told["sent_as_datagrams"] == 4
    assert fits["as_planned"] and abs(fits["seen_bps"] - 2 * 6e6) < 0.2 * 12e6
    assert full["planned_bps"] > 12e6 and full["seen_bps"] < 1.02 * 10e6
    assert [(f["code"], f["subject"]) for f in told["findings"]] == [("NET-13", "link core:2 - west:9")], (
        load.result().all
    )
    done = commands.result()
    assert done.code in (0, 1) and "5 of 5 planned devices found" in done.out and "no step failed" in done.out, done.all
    assert "4 of 4 planned channels record" in done.out, done.all
    assert not (plain / "vault.bin").exists() and not (plain / "logbook.sqlite").exists(), "it worked in a copy"
    assert shut_in.result().code == 3 and "no address in zone" in shut_in.result().out, "the office reaches no camera"


def test_every_slip_is_tried(tmp_path: Path) -> None:
    assert set(FOUND) == {s.name for s in SLIPS}
    listed = program("network", "rehearse", "--break", "list", cwd=six(tmp_path))
    assert listed.code == 0 and [line.split(":")[0] for line in listed.out.splitlines()] == [s.name for s in SLIPS]


def test_what_a_slip_lacks_is_told_before_anything_is_built(tmp_path: Path) -> None:
    one = six(
        tmp_path,
        site=SITE.replace("viewing = {", "# viewing = {"),
        cameras=CAMERAS.splitlines()[0] + "\n" + CAMERAS.splitlines()[1],
    )
    done = program("network", "rehearse", "--break", "nonsense", cwd=one)
    assert done.code == 2 and "expected one of: wrong-vlan" in done.err
    nowhere = program("network", "rehearse", "--from", "office", cwd=one)
    assert nowhere.code == 2 and "give one with --run" in nowhere.err


def test_where_there_are_no_switches_the_files_are_read_back_all_the_same(tmp_path: Path) -> None:
    done = program("network", "rehearse", "--json", cwd=six(tmp_path), PATH=str(tmp_path))
    assert done.code == 0 and {f["code"] for f in done.json["findings"]} == {"NET-10"}, done.all
    assert all("missing; " in f["measured"] for f in done.json["findings"]), "each says what to install"
    packets = program("network", "rehearse", "--run", "discover", cwd=tmp_path, PATH=str(tmp_path))
    assert packets.code == 2 and "missing for packets" in packets.err, "what was asked for is not called done"


@on_packets
def test_a_right_plan_is_not_accused_for_what_this_machine_lacks(tmp_path: Path) -> None:
    """Without nftables nothing keeps networks apart here, so nothing between them is tried; what lies within one is."""
    tools = tmp_path / "bin"
    tools.mkdir()
    for place in ("/bin", "/sbin", "/usr/bin", "/usr/sbin"):
        for file in Path(place).iterdir():
            if file.name not in ("nft", "dnsmasq") and not (tools / file.name).is_symlink():
                (tools / file.name).symlink_to(file)
    folder = six(tmp_path / "site", wall=False)
    done = program("network", "rehearse", "--json", cwd=folder, PATH=str(tools))
    assert done.code == 0 and [f["code"] for f in done.json["findings"]] == ["NET-10", "NET-10"], done.all
    assert {(c["from_zone"], c["pairs_through"]) for c in done.json["cells"] if c["to_zone"] == "cameras"} == {
        ("recording", 4), ("cameras", 0),
    }  # fmt: skip
    slip = program("network", "rehearse", "--break", "recorder-forwards", cwd=folder, PATH=str(tools))
    assert slip.code == 2 and "nft is missing here" in slip.err, slip.all


def test_frames_and_messages_are_those_of_the_standards() -> None:
    """Bytes worked out by hand from RFC 826, 2131, 2236 and 1071."""
    request = frames.arp_request("02:00:00:00:00:01", "10.0.0.1", "10.0.0.2")
    assert request[:42].hex() == "ffffffffffff020000000001080600010800060400010200000000010a0000010000000000000a000002"
    reply = bytes.fromhex("020000000001020000000002080600010800060400020200000000020a0000020200000000010a000001")
    frame = frames.parse(reply)
    assert frame is not None and frames.arp_reply(frame) == ("10.0.0.2", "02:00:00:00:00:02")
    assert frames.checksum(bytes.fromhex("0001f203f4f5f6f7")) == 0x220D, "the example of RFC 1071 section 3"
    query = frames.parse(frames.igmp_query("02:00:00:00:00:01", "10.0.0.1"))
    assert query is not None and frames.is_igmp_query(query) and query.content[24:32].hex() == "110aeef500000000"
    tagged = frames.parse(bytes.fromhex("ffffffffffff0200000000018100001408060001"))
    assert tagged is not None and (tagged.ethertype, tagged.content.hex()) == (frames.ARP, "0001")
    asked = dhcp.ask(dhcp.DISCOVER, "02:00:00:00:00:01", 7)
    assert asked[:12].hex() == "010106000000000700008000" and asked[236:243].hex() == "63825363350101"
    offer = (
        bytes.fromhex("020106000000000700000000000000000a000009")
        + bytes(8)
        + bytes.fromhex("020000000001")
        + bytes(202)
    )
    offer += bytes.fromhex("6382536335010236040a00000103040a0000feff")
    told = dhcp.parse(offer)
    assert told == dhcp.Message(dhcp.OFFER, "02:00:00:00:00:01", 7, "10.0.0.9", "10.0.0.1", "10.0.0.254")
    assert dhcp.parse(offer[:200]) is None and dhcp.parse(b"") is None


@pytest.mark.parametrize(("carries", "came", "left"), [
    (lambda sent, call: sent - {3}, {0, 1, 2, 4, 5}, set()),  # one is lost whatever is done: so it is judged
    (lambda sent, call: sent if call > 6 else sent - {1, 3}, {0, 1, 2, 3, 4, 5}, set()),  # late, and a witness with it
    (lambda sent, call: sent - {1, 3}, {0, 1, 2, 4, 5}, {3}),  # what arrived before does not either: nothing is said
    (lambda sent, call: set(), {0, 1, 2, 4, 5}, {3}),
])  # fmt: skip
def test_what_this_machine_does_not_carry_is_nobodys_loss(
    carries: Callable[[set[int], int], set[int]], came: set[int], left: set[int]
) -> None:
    calls: list[set[int]] = []

    def send(some: Sequence[int]) -> set[int]:
        calls.append(set(some))
        return carries(calls[-1], len(calls))

    assert arriving(range(7), lambda item: item != 6, {0, 1, 2, 4, 5}, send) == (came, left)
    assert all(6 not in call and 3 in call for call in calls), "what need not arrive is not asked for again"


BUSY = """
from zentrale.jobs.network.rehearsal import trial

arriving, lost = trial.arriving, []


def busy(asked, must, came, send):
    came, left = arriving(asked, must, came, send)
    if not lost and any(map(must, came)):
        lost.append(next(item for item in asked if item in came and must(item)))
        return came - set(lost), set(lost)
    return came, left


trial.arriving = busy
"""


@on_packets
def test_a_plan_of_which_not_all_was_carried_is_not_said_to_be_as_planned(tmp_path: Path) -> None:
    """One packet is never carried, and what goes with it is not either: as where switches in user space have no time."""
    (tmp_path / "sitecustomize.py").write_text(BUSY)
    told = program("network", "rehearse", cwd=six(tmp_path / "site", wall=False), PYTHONPATH=str(tmp_path))
    assert (told.code, told.out.partition("  ")[0]) == (0, "NOT JUDGED"), told.all
    assert "1 packet this machine was too busy for" in told.out and "NET-10" in told.out
    assert "nowhere else" not in told.out and "WRONG" not in told.out and "NET-2" not in told.out

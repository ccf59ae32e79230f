"""Work sheets of switches, typed in on Open vSwitch and on a model of bridges; what they say; what hangs on ports."""

from __future__ import annotations

import csv
import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bridge_model import Bridges
from conftest import SITE, TYPES, make_site, program, zentrale
from five_site import CAMERAS, LINKS, SWITCHES, five
from network_site import on_packets
from zentrale.field.lab import namespaces
from zentrale.findings import Finding
from zentrale.planning.by_hand.order import Place, free_ports, orders
from zentrale.planning.by_hand.sheet import work_sheets
from zentrale.planning.network import NetworkPlan, plan_network
from zentrale.planning.power import plan_power
from zentrale.planning.traffic import plan_traffic
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

UNSHARE = [
    "unshare",
    "--user",
    "--map-root-user",
    "--net",
    "--mount",
    "--pid",
    "--fork",
    "--kill-child",
    "--mount-proc",
]


def sheet_of(folder: Path, switch: str, *more: str) -> dict[str, Any]:
    done = zentrale("network", "write", "--sheet", switch, "--json", *more, cwd=folder)
    assert done.code in (0, 1), done.all
    sheet: dict[str, Any] = done.json["sheet"]
    return sheet


def network_of(folder: Path) -> NetworkPlan:
    return plan_network(read_plan(SiteFolder(folder)))


def entered(sheet: dict[str, Any], where: str) -> list[str]:
    return [line["enter"] for line in sheet["lines"] if line["where"] == where]


@on_packets
def test_typed_line_by_line_nobody_is_cut_off_and_the_rehearsal_is_clean(tmp_path: Path) -> None:
    """Five switches from their maker, all in VLAN 1; the laptop at the far end of the bundle; one link has a native VLAN."""
    native = "".join(f'[[ports]]\nat = "{at}"\nnative = "cameras"\n' for at in ("core:1", "hall:8"))
    folder = five(tmp_path, native)
    sheets = {name: sheet_of(folder, name, "--at", "tail:3") for name in SWITCHES}
    waiting = next(note for note in sheets["core"]["notes"] if note.startswith("Unplugged until"))
    pages = {name: ["vlan10" if name == "core" else "mgmt", f"10.10.0.{n}"] for n, name in enumerate(SWITCHES, 2)}
    asked = {
        "laptop": "tail:3", "vlan": 10, "links": [link[:2] for link in LINKS], "order": sheets["core"]["order"], "pages": pages,
        "unplugged": re.findall(r"\w+:\d+ - \w+:\d+", waiting), "sheets": {name: s["lines"] for name, s in sheets.items()},
    }  # fmt: skip
    assert len(asked["unplugged"]) == 2, "the bundle's second cable, and the one that closes the ring"
    document = tmp_path / "asked.json"
    document.write_text(json.dumps(asked))
    typist = [*UNSHARE, sys.executable, str(Path(__file__).with_name("sheet_typist.py")), str(document)]
    done = subprocess.run(
        typist, capture_output=True, text=True, check=False, env={**os.environ, namespaces.INSIDE: "1"}
    )
    assert done.returncode == 0, done.stderr
    typed = json.loads(done.stdout)
    assert typed["failed"] == "" and typed["looked"] == sum(len(s["lines"]) for s in sheets.values())
    written = folder / "output" / "network"
    for name, commands in typed["commands"].items():
        (written / name / "openvswitch.sh").write_text("\n".join(["#!/bin/sh", "set -eu", *commands, ""]))
    head = (written / "router.nft").read_text().partition("  chain forward")[0]
    rules = [
        "  chain forward {",
        "type filter hook forward priority filter; policy accept;",
        *typed["access"],
        "}",
        "}",
        "",
    ]
    (written / "router.nft").write_text(head + "\n".join(rules))
    rehearsed = program("network", "rehearse", "--json", cwd=folder)
    assert rehearsed.code == 0, rehearsed.all
    assert {f["code"] for f in rehearsed.json["findings"]} == {"NET-14"}, (
        "lines are other ones, and nothing goes otherwise"
    )


@st.composite
def sites(draw: st.DrawFn) -> tuple[str, str, str]:
    """A tree of switches with bundles and spare cables; the pages in the VLAN that all begin in, or in another one."""
    count = draw(st.integers(1, 5))
    vlan, cameras, tree = draw(
        st.sampled_from([(10, 20, ""), (10, 20, "rstp"), (1, 20, "rstp"), (10, 1, "rstp"), (1, 20, "")])
    )
    used = dict.fromkeys(range(count), 0)

    def port(switch: int) -> str:
        used[switch] += 1
        return f"s{switch}:{used[switch]}"

    site = SITE[: SITE.index("[[zones]]")].replace("127.0.71", "10.99.0")
    for name, number in (("management", vlan), ("cameras", cameras)):
        site += f'[[zones]]\nname = "{name}"\nvlan = {number}\nsubnet = "10.{number}.0.0/24"\n'
    site += SITE[SITE.index("[[groups]]") : SITE.index("[[switches]]")]
    for n in range(count):
        page = f'management = {{ zone = "management", address = "10.{vlan}.0.{n + 2}" }}'
        site += f'[[switches]]\nname = "s{n}"\ncabinet = "hall"\ntype = "switch-8"\n{page}\n'
        site += f'loop_protection = "{tree}"\n' if tree else ""
    for n in range(1, count):
        near, bundle = draw(st.integers(0, n - 1)), draw(st.sampled_from([1, 1, 2, 3]))
        for _ in range(bundle):
            site += f'[[links]]\na = "{port(near)}"\nb = "{port(n)}"\nrate_mbps = 1000\n'
            site += f'bundle = "b{n}"\n' if bundle > 1 else ""
    for _ in range(draw(st.integers(0, 2)) if count > 1 else 0):
        a, b = draw(st.permutations(range(count)))[:2]
        name = f"r{used[a]}-{used[b]}"  # a ring may be closed by a bundle, too
        for _ in range(bundle := draw(st.sampled_from([1, 2]))):
            site += f'[[links]]\na = "{port(a)}"\nb = "{port(b)}"\nrate_mbps = 1000\n'
            site += f'bundle = "{name}"\n' if bundle > 1 else ""
    site += f'[[recorders]]\nname = "recorder"\ntype = "recorder-4"\nzone = "cameras"\nswitch = "s0"\nport = {port(0)[3:]}\n'
    site += f'address = "10.{cameras}.0.250"\n'
    rows = "name,type,group,zone,switch,port,run_length_m,recorder,channel\n"
    for c in range(1, 4):
        at = port(draw(st.integers(0, count - 1))).replace(":", ",")
        rows += f"c{c},larch-2,all,cameras,{at},20,recorder,{c}\n"
    return site, rows, TYPES.replace("ports = 10\npoe_ports = 8", "ports = 32\npoe_ports = 8")


@settings(max_examples=40)
@given(sites(), st.data())
def test_after_every_line_every_page_answers_and_nothing_goes_in_circles(
    tmp_path_factory: pytest.TempPathFactory, site: tuple[str, str, str], data: st.DataObject
) -> None:
    net = network_of(make_site(tmp_path_factory.mktemp("site"), *site))
    switches = [s.name for s in net.plan.switches]
    at = data.draw(st.sampled_from(switches))
    laptop = Place(at, data.draw(st.sampled_from(free_ports(net, at))))
    (order,) = orders(net, laptop)
    bridges = Bridges(net, order, laptop)
    sheets = {sheet.switch: sheet for sheet in work_sheets(net, [order])}
    for turn in range(1, order.rounds + 1):
        for name in order.switches:
            for line in next(part for part in sheets[name].rounds if part.number == turn).lines:
                bridges.enter(name, line.where, line.enter)
                assert bridges.pages() == set(switches), (name, turn, line)
    bridges.as_planned()


def test_a_sheet_reads_at_80_columns_and_its_place_is_kept(tmp_path: Path) -> None:
    folder = five(tmp_path)
    done = zentrale("network", "write", "--sheet", "south", "--at", "tail:3", cwd=folder)
    assert done.code == 0 and max(map(len, done.out.splitlines()[:-1])) <= 80
    lines = [" ".join(part.split()) for part in done.out.split("[ ]")[1:]]
    assert len(lines) == len(set(re.findall(r"^\d+", "\n".join(lines), re.M))), "a box and a number a line"
    assert "management: address 10.10.0.5, mask 255.255.255.0, gateway 10.10.0.1; VLAN 1 as it is" in lines[1]
    assert any(line.endswith("ports: 1 untagged VLAN 20 (south-1) [ZON-1]") for line in lines)
    assert "ping 10.10.0.4, 10.10.0.5, 10.10.0.2, 10.10.0.3, 10.10.0.6" in lines[-2], "far from the laptop first"
    assert "save it as what the switch starts with" in lines[-1]
    page = (folder / "output/network/south/work-sheet.html").read_text()
    assert page.count('class="box"') == len(lines) and "tagged frames only; untagged VLAN 1 off" in page
    assert sheet_of(folder, "south")["laptop"] == "tail:3", "as last time"
    again = zentrale("network", "write", "--json", cwd=folder).json
    assert {f["state"] for f in again["files"]} == {"as before"} and again["laptop"] == "tail:3"


@pytest.mark.parametrize(
    ("at", "told"),
    [
        ("tial:3", "no switch tial in the plan; did you mean tail?"), ("tail", "expected SWITCH:PORT"), ("core:6", ""),
        ("tail:11", "ports 1 to 10"), ("tail:9", "that is the link to hall:9"), ("south:1", "south-1 is planned there"),
    ],
)  # fmt: skip
def test_where_the_laptop_cannot_stand_is_said(tmp_path: Path, at: str, told: str) -> None:
    folder = five(tmp_path)
    done = zentrale("network", "write", "--at", at, cwd=folder)
    assert done.code == (2 if told else 0) and told in " ".join(done.all.split())
    assert (folder / "output" / "network").exists() == (not told), "nothing half-written"
    unknown = zentrale("network", "write", "--sheet", "sout", cwd=folder)
    assert unknown.code == 2 and "did you mean south?" in unknown.err


def test_a_sheet_says_all_that_the_switch_is_to_be(tmp_path: Path) -> None:
    """RADIUS with its secret in the vault, a fixed speed, a VLAN without a port, who may go where, what stands once."""
    guests = '[[zones]]\nname = "guests"\nvlan = 60\nsubnet = "10.60.0.0/24"\ngateway = "10.60.0.1"\n'
    more = guests + '[[ports]]\nat = "south:1"\nrate_mbps = 100\n[[rules]]\nfrom = "guests"\nto = "internet"\n'
    known = CAMERAS.replace("10.20.0.13,", "10.20.0.13,02:5a:71:00:00:13")
    folder = five(
        tmp_path / "site", more, cameras=known, policy='authentication = "mac-bypass"\nradius_server = "10.10.0.9"\n'
    )
    core, south = sheet_of(folder, "core"), sheet_of(folder, "south")
    assert "VLAN 60, name guests" in entered(core, "VLANs") and "VLAN 60, name guests" not in entered(south, "VLANs")
    assert entered(south, "speed") == ["100 Mbit/s, fixed: port 1"] and entered(core, "speed") == []
    assert entered(south, "RADIUS: server") == ["10.10.0.9, port 1812"]
    assert entered(south, "RADIUS: secret") == ["from the vault, by hand: 802.1X, RADIUS secret"]
    assert entered(south, "ports: letting in by") == ["mac-bypass: port 1"]
    assert entered(core, "energy-saving Ethernet") == ["off: all ports in use"], "what is the same stands once"
    assert entered(core, "spanning tree: priority") == ["4096"] and entered(south, "spanning tree: priority") == [
        "32768"
    ]
    assert "VLAN 40: address 10.40.0.1, mask 255.255.255.0" in entered(core, "routing: addresses")
    assert any("internet" in told for told in entered(core, "routing: routes"))
    control = "10.40.0.0/28, 10.40.0.16/30, 10.40.0.20, 10.40.0.22/31, 10.40.0.24/29, 10.40.0.32/27, 10.40.0.64/26"
    (allowed,) = entered(core, "access list between VLANs: 1")
    assert allowed.startswith(f"allow tcp in by VLAN 40 from {control}, 10.40.0.128/25"), (
        "all of the zone but its recorder, by hand"
    )
    assert allowed.endswith("; out by VLAN 10 to 10.10.0.2/31, 10.10.0.4/31, 10.10.0.6; to port 443")
    codes = {(line["where"].partition(":")[0], line["confirmed_by"]) for line in south["lines"] if line["confirmed_by"]}
    assert codes == {("management", "ADR-7"), ("ports", "ZON-1"), ("ports", "ZON-3"), ("PoE", "ZON-4"), ("speed", "ZON-7"),
                     ("energy-saving Ethernet", "ZON-6")}  # fmt: skip
    secret = tmp_path / "radius"
    zentrale("vault", "init", cwd=folder, ZENTRALE_PASSPHRASE="four words and more")
    done = zentrale(
        "network", "write", "--with-secrets", str(secret), cwd=folder, ZENTRALE_PASSPHRASE="four words and more"
    )
    shared = re.search(r"list of clients: (\S+)", secret.read_text())
    assert done.code == 0 and shared and len(shared[1]) == 16 and shared[1] not in done.all
    told = zentrale("vault", "list", "--show", cwd=folder, ZENTRALE_PASSPHRASE="four words and more").out
    assert shared[1] in told and "RADIUS secret" in told
    assert not any(
        shared[1] in p.read_text("utf-8", "replace") for p in folder.rglob("*") if p.is_file() and p.suffix != ".bin"
    )
    table = list(csv.DictReader((folder / "output/network/tail/ports.csv").read_text("utf-8-sig").splitlines()))
    assert [(r["bundle"], r["tagged_only"]) for r in table[8:]] == [("b", "yes")] * 2 and table[0][
        "tagged_only"
    ] == "no"
    labels = (folder / "output/network/labels.csv").read_text("utf-8-sig")
    assert 'hall:9,tail:9,"VLAN 10+20, bundle b"' in labels and 'tail:9,hall:9,"VLAN 10+20, bundle b"' in labels


def test_a_plan_without_pages_says_what_will_happen(tmp_path: Path) -> None:
    done = zentrale("plan", "addresses", cwd=five(tmp_path, page=False))
    assert done.code == 0 and "5 switches" in done.out and "its page is on none" in " ".join(done.out.split())
    notes = " ".join(sheet_of(tmp_path, "south")["notes"])
    assert "only its console reaches it" in notes
    assert entered(sheet_of(tmp_path, "core"), "ports: 2")[-1] == "untagged VLAN 1; nothing tagged", (
        "the laptop's own is never off"
    )


POINT = '[[access_points]]\nname = "air"\nswitch = "tail"\nport = 2\nnetworks = [{ name = "x", zone = "control" }]\n'
BRIDGE = '[[ports]]\nat = "tail:3"\nlabel = "bridge to the boathouse"\naccess = "control"\npoe = true\n'


def of_codes(findings: tuple[Finding, ...], *codes: str) -> list[tuple[str, str]]:
    return [(f.code, str(f.subject)) for f in findings if f.code in codes]


def test_what_hangs_on_a_port_is_counted_in_power_and_traffic(tmp_path: Path) -> None:
    """Worked out by hand: class 3, 8 W, 90 m of 12.5 ohm per 100 m, 44 V (IEEE 802.3 clause 33)."""
    known = POINT + "draw_w = 8\npoe_class = 3\ntraffic_mbps = 50\n"
    plan = read_plan(SiteFolder(five(tmp_path / "known", known)))
    tail = next(s for s in plan_power(plan).switches if s.name == "tail")
    (port,) = (p for p in tail.ports if p.device == "air")
    current = (44 - (44**2 - 4 * 11.25 * 8) ** 0.5) / (2 * 11.25)
    assert max(port.draw_w.values()) == pytest.approx(44 * current) and port.reserved_w == 15.4
    bare = {load.name: load.load_bps for load in plan_traffic(read_plan(SiteFolder(five(tmp_path / "bare")))).links}
    more = {
        load.name: load.load_bps - bare.get(load.name, 0) for load in plan_traffic(plan).links if "air" in load.others
    }
    ways = ["core:1 - hall:8", "hall:9+10 - tail:9+10", "tail:2 air"]
    assert {name: pytest.approx(50e6) for name in ways} == more, "on the way to the router, and at its own port"
    assert of_codes((*plan_power(plan).findings, *plan_traffic(plan).findings), "PWR-14", "TRF-11") == []
    links = {row.port: row.tagged for row in network_of(tmp_path / "known").ports.of("tail") if row.kind == "link"}
    assert "control" in links[9], "its VLAN comes to it"


def test_poe_stays_on_under_what_nobody_knows(tmp_path: Path) -> None:
    folder = five(tmp_path / "a", POINT + BRIDGE)
    plan = read_plan(SiteFolder(folder))
    both = [("PWR-14", "access point air"), ("PWR-14", "device bridge to the boathouse")]
    assert of_codes(plan_power(plan).findings, "PWR-14") == both
    assert of_codes(plan_traffic(plan).findings, "TRF-11") == [("TRF-11", subject) for _, subject in both]
    assert entered(sheet_of(folder, "tail"), "PoE") == ["on: all ports in use"]
    table = csv.DictReader((folder / "output/network/tail/ports.csv").read_text("utf-8-sig").splitlines())
    assert [row["poe"] for row in table][:4] == ["on", "on", "on", "off"]
    assert "not known" in zentrale("plan", "power", "--details", cwd=folder).out
    fed = POINT + "draw_w = 0\n" + BRIDGE.replace("true", "false")
    off = plan_power(read_plan(SiteFolder(five(tmp_path / "b", fed))))
    assert of_codes(off.findings, "PWR-14") == []
    assert entered(sheet_of(tmp_path / "b", "tail"), "PoE") == ["on: port 1", "off: ports 2, 3"]
    hungry = POINT + "draw_w = 40\npoe_class = 4\n" + BRIDGE + "draw_w = 25\n"
    much = plan_power(read_plan(SiteFolder(five(tmp_path / "c", hungry))))
    assert of_codes(much.findings, "PWR-1", "PWR-8") == [("PWR-1", "switch tail"), ("PWR-8", "access point air")]


def test_what_hangs_on_a_port_takes_a_port_where_switches_are_placed(tmp_path: Path) -> None:
    """Four cameras and an uplink fill a switch of five ports; with the bridge beside them the one of ten is the cheapest."""
    small = '[[switch_types]]\nname = "small"\nmaker = "Orrery"\nmodel = "Tern"\nports = 5\npoe_ports = 5\n'
    small += "poe_budget_w = 60\nprice = 60\n"
    types = (
        TYPES + small + small.replace("small", "large").replace("= 5\n", "= 10\n").replace("price = 60", "price = 100")
    )
    cabinet = '[[cabinets]]\nname = "shed"\nx_m = 0\ny_m = 0\n'
    rows = "name,type,group,zone,switch,port,run_length_m,recorder,channel,x_m,y_m\n"
    rows += "".join(f"c{n},larch-2,all,cameras,tail,{n},20,recorder,{n},{n},{n}\n" for n in range(1, 5))
    costs = {}
    for name, more in {"without": "", "with": BRIDGE.replace("tail:3", "tail:5") + "draw_w = 5\n"}.items():
        folder = five(tmp_path / name, more + cabinet, cameras=rows, types=types)
        site = folder / "site.toml"
        site.write_text(site.read_text().replace('name = "tail"\ncabinet = "hall"', 'name = "tail"\ncabinet = "shed"'))
        done = zentrale("plan", "placement", "--json", cwd=folder).json
        costs[name] = (
            done["placement"]["cost"]["switches"],
            sorted({row["switch_type"] for row in done["placed_cameras"]}),
        )
        assert ("bridge to the boathouse (tail:5)" in [row["camera"] for row in done["placed_cameras"]]) == (
            name == "with"
        )
    assert costs == {"without": (60, ["small"]), "with": (100, ["large"])}


@pytest.mark.skipif(not (shutil.which("nft") and shutil.which("unshare")), reason="nft or unshare is missing")
def test_a_routers_page_is_reached_by_those_whom_a_rule_lets(tmp_path: Path) -> None:
    """A kernel with the written rules: the desk by TCP 443 only, whoever is in its own zone, and nobody by a way round."""
    folder = five(tmp_path)
    zentrale("network", "write", cwd=folder)
    tried = [
        ("vlan40", "10.40.0.60", 443),
        ("vlan40", "10.40.0.60", 80),
        ("vlan40", "10.40.0.21", 443),
        ("vlan10", "10.10.0.60", 80),
    ]
    packets = [[leg, source, "10.10.0.2", "tcp", port] for leg, source, port in tried]
    legs = {"vlan10": "10.10.0.2/24", "vlan40": "10.40.0.1/24", "wan": "198.51.100.2/24"}
    document = tmp_path / "asked.json"
    document.write_text(
        json.dumps({"legs": legs, "rules": str(folder / "output/network/router.nft"), "packets": packets})
    )
    script = Path(__file__).with_name("kernel_router.py")
    done = subprocess.run(
        [*UNSHARE[:4], sys.executable, str(script), str(document)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout) == [0, 3]

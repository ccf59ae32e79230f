"""The switches' own truth, by the real program: read, held against the plan, and their ports switched; net-snmp beside it."""

from __future__ import annotations

import asyncio
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import (
    CAMERAS,
    DATA,
    PROGRAM,
    SITE,
    TYPES,
    StartStandIn,
    environment,
    everything_below,
    make_site,
    zentrale,
)
from zentrale.errors import SilentError
from zentrale.field.snmp import Snmp
from zentrale.jobs.maintaining import port_power
from zentrale.jobs.switches.asking import Asked
from zentrale.jobs.switches.here import by_lldp
from zentrale.jobs.switches.judging_whole import judge_trees
from zentrale.jobs.switches.power_back import OFF
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.planning.network import plan_network
from zentrale.protocols.lldp import Heard
from zentrale.protocols.mib.numbering import Shape
from zentrale.protocols.mib.switch import Told, understand
from zentrale.protocols.mib.tables import Rows
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

SECRETS = ("read-made-up-1", "hide-made-up-1", "turn-made-up-1", "hide-made-up-2")
PLAN = SITE.replace('address = "127.0.71.8" }', 'address = "127.0.71.8", snmp = "v3", snmp_port = 1161 }') + """\
[[switches]]
name = "old"
cabinet = "cellar"
type = "switch-4"
management = { zone = "cameras", address = "127.0.71.9", snmp = "v2c", snmp_port = 1161 }
[[links]]
a = "cabinet:10"
b = "old:2"
rate_mbps = 1000
[[zones]]
name = "spare"
vlan = 72
subnet = "127.0.72.0/27"
"""  # fmt: skip
ROWS = (
    CAMERAS.replace("127.0.71.12,,", "127.0.71.12,02:5a:71:00:00:12,")
    + "west,west door,larch-2,all,cameras,cabinet,4,20,,02:5a:71:00:00:14,recorder,2\n"
)
ROWS += "east,east door,larch-2,all,cameras,cabinet,5,20,,02:5a:71:00:00:13,recorder,4\n"
PLANNED = TYPES.replace("poe_budget_w = 60\n", 'poe_budget_w = 60\nfirmware = { version = "2.5" }\n') + """\
[[switch_types]]
name = "switch-4"
maker = "Pallas Yard"
model = "Bittern 4"
ports = 4
"""  # fmt: skip


def open_switches(site: Path) -> None:
    add = ("vault", "add")
    assert zentrale("vault", "init", cwd=site).code == 0
    read = {"ZENTRALE_PASSWORD": SECRETS[0], "ZENTRALE_PRIVACY_PASSWORD": SECRETS[1]}
    turn = {"ZENTRALE_PASSWORD": SECRETS[2], "ZENTRALE_PRIVACY_PASSWORD": SECRETS[3]}
    assert zentrale(*add, "reader", "--snmp", cwd=site, **read).code == 0
    assert zentrale(*add, "switcher", "--snmp", "--writes", cwd=site, **turn).code == 0
    assert zentrale(*add, "everybody", "--snmp-community", cwd=site, ZENTRALE_PASSWORD="public").code == 0


def scenario(folder: Path, *changes: tuple[str, str]) -> Path:
    text = (DATA / "small.toml").read_text() + (DATA / "switches.toml").read_text()
    for old, new in changes:
        assert old in text
        text = text.replace(old, new)
    (folder / "scenario.toml").write_text(text)
    return folder / "scenario.toml"


@pytest.fixture
def site(tmp_path: Path) -> Path:
    folder = make_site(tmp_path / "site", PLAN, ROWS, PLANNED)
    open_switches(folder)
    return folder


def checked(site: Path, *more: str) -> Any:
    return zentrale("network", "check", "--json", *more, cwd=site)


def test_what_is_wrong_is_found_and_nothing_else(site: Path, tmp_path: Path, start_stand_in: StartStandIn) -> None:
    start_stand_in(scenario(tmp_path))
    told = checked(site)
    found = {
        (f["code"], f["subject"].removeprefix("switch ")): f for f in told.json["findings"] if f["severity"] != "note"
    }
    port = "cabinet, port {}".format
    assert set(found) == {
        ("SWI-1", "camera south"), ("SWI-10", port(2)), ("SWI-13", port(1)), ("SWI-3", port(4)), ("SWI-7", port(4)),
        ("SWI-4", port(5)), ("SWI-9", port(5)), ("SWI-5", port(10)), ("SWI-6", port(10)), ("SWI-8", port(10)),
        ("SWI-8", "old, port 2"), ("SWI-17", "old"), ("SWI-18", "cabinet"), ("SWI-21", "old"),
    }, told.all  # fmt: skip
    assert found["SWI-10", port(2)]["caused_by"] == "SWI-1 camera south" and told.code == 1
    assert "VLAN 71 (cameras)" in found["SWI-5", port(10)]["measured"] and "72" in found["SWI-6", port(10)]["measured"]
    cabinet, old = told.json["switches"]
    ports = {p["port"]: p for p in cabinet["ports"]}
    assert [ports[n]["device"] for n in (1, 3, 9)] == ["north", "south", "recorder"] and ports[3]["planned"] is None
    poe = ports[1]["poe"]
    assert (poe["state"], poe["class"], poe["power_w"], poe["asked_w"], poe["allotted_w"]) == (
        "deliveringPower",
        3,
        9.1,
        None,
        None,
    )
    assert (ports[4]["duplex"], ports[4]["macs"]) == ("half", ["02:00:5e:00:53:04", "02:00:5e:00:53:05"])
    assert (ports[5]["pvid"], ports[5]["vlans"], ports[10]["vlans"]) == (72, [72], [1, 72])
    assert 500 <= ports[5]["errors_per_min"] <= 700 and ports[1]["errors_per_min"] == 0
    assert (ports[2]["up"], ports[2]["rate_mbps"], ports[2]["duplex"]) == (False, None, None)
    assert cabinet["power"] == {"budget_w": 60.0, "used_w": 22.0} and (old["answers"], old["power"]) == (True, None)
    assert not any(secret.encode() in everything_below(site) + told.all.encode() for secret in SECRETS)
    details = zentrale("network", "check", "--details", "--no-guess", cwd=site, COLUMNS="130").out
    lines = [line.split() for line in details.split("allotted W")[1].splitlines()]
    rows = {line[0]: line[1:] for line in lines if line and line[0].isdigit()}
    assert rows["1"] == ["north", "north", "100", "71", "on", "-", "-", "9.1", "0"], details
    assert rows["2"] == ["south", "-", "no", "link", "71", "searching", "-", "-", "-", "0"], details
    assert "half" in rows["4"] and "software 2.4" in details
    shown = zentrale("plan", "power", "--json", cwd=site).json["switches"][0]["seen_w"]
    assert sorted(w for w in shown.values() if w is not None) == [22.0]
    net, name = plan_network(read_plan(SiteFolder(site))), ports[3]["name"]
    with Logbook(site / "logbook.sqlite") as logbook:
        for says in (Heard("", name, "cabinet"), Heard("", "02:5a:71:00:01:03", "cabinet", name)):
            here = by_lldp(net, logbook, "eth0", says)
            assert (here.switch, here.port) == ("cabinet", 3), "by its number, or by what it is called beside that"
    start_stand_in(scenario(tmp_path, ('duplex = "half"', 'duplex = "full"')))
    again = {(f["code"], f["subject"]) for f in checked(site, "--only", "cabinet", "--no-guess").json["findings"]}
    assert ("SWI-7", "switch cabinet, port 4") not in again, "a later run settles what an earlier one said"


def test_power_strangers_and_numbers_that_disagree(site: Path, tmp_path: Path, start_stand_in: StartStandIn) -> None:
    """North matters most, and would go dark first; west was exchanged; east gets no power; the data sheet is off by one."""
    rows = [line + ("," if n else ",priority") for n, line in enumerate(ROWS.splitlines())]
    (site / "cameras.csv").write_text("\n".join(rows).replace("recorder,1,", "recorder,1,high") + "\n")
    start_stand_in(scenario(
        tmp_path, ("budget_w = 60", "budget_w = 19"), (', also = ["02:00:5e:00:53:05"]', ""),
        ('duplex = "half"', 'duplex = "full"'),
        ("vlan = 72, day_w = 4.0, mac", "vlan = 71, denied = 2, day_w = 4.0, mac"),
    ))  # fmt: skip

    def found() -> dict[tuple[str, str], str]:
        told = checked(site, "--only", "cabinet", "--no-guess").json["findings"]
        return {(f["code"], f["subject"].partition(", ")[2]): f["measured"] for f in told if f["code"] in wanted}

    wanted = {"SWI-2", "SWI-3", "SWI-10", "SWI-11", "SWI-12", "SWI-14", "SWI-22", "SWI-13"}
    assert found() == {
        ("SWI-2", "port 4"): "02:00:5e:00:53:04, which nobody planned",
        ("SWI-10", "port 2"): "nothing answers; it is for south",
        ("SWI-10", "port 5"): "nothing answers; it is for east",
        ("SWI-11", "port 5"): "power was refused 2 times since it counts; 18 of 19 W are used; it is for east",
        ("SWI-12", ""): "18 of 19 W used, 95 %",
        ("SWI-13", "port 1"): "9.1 W drawn; for north",
        ("SWI-14", "port 1"): "priority low: it goes dark before others; for north",
    }
    (site / "types.toml").write_text(PLANNED.replace("poe_ports = 8\n", "poe_ports = 8\nfirst_poe_index = 2\n"))
    disagrees = found()
    assert "PoE of port 1: ENTITY-MIB says row 1.1, first_poe_index says row 1.2" in disagrees["SWI-22", ""]
    assert not {"SWI-11", "SWI-13", "SWI-14"} & {code for code, _ in disagrees}, (
        "nothing is said of a port that is not sure"
    )


@pytest.mark.parametrize(
    ("change", "code", "why"),
    [
        (('"read-made-up-1"', '"another-made-up"'), "SWI-23", "authentication password is another"),
        (('"hide-made-up-1"', '"another-made-up"'), "SWI-23", "privacy password is another"),
        (('user = "reader"', 'user = "somebody"'), "SWI-23", "no such user"),
        (("budget_w = 60\n", "budget_w = 60\nsilent_after = 9\n"), "SWI-20", "stopped to answer"),
    ],
)
def test_one_that_cannot_be_read_says_why_and_nothing_is_said_of_its_ports(
    site: Path, tmp_path: Path, start_stand_in: StartStandIn, change: tuple[str, str], code: str, why: str
) -> None:
    start_stand_in(scenario(tmp_path, change))
    zentrale("vault", "remove", "switcher", cwd=site)
    told = checked(site, "--no-guess").json
    cabinet, old = told["switches"]
    assert (cabinet["answers"], cabinet["ports"], cabinet["power"], old["answers"]) == (False, [], None, True)
    about = [f for f in told["findings"] if "cabinet" in f["subject"]]
    assert [f["code"] for f in about] == [code] and why in about[0]["measured"], about


def test_where_none_answers_it_is_exit_3_and_where_nothing_opens_them_it_is_said(tmp_path: Path) -> None:
    site = make_site(tmp_path / "site", PLAN, ROWS, PLANNED)
    assert "zentrale vault add NAME --snmp" in zentrale("network", "check", cwd=site).out
    open_switches(site)
    nobody = checked(site)
    assert nobody.code == 3 and {f["code"] for f in nobody.json["findings"]} == {"SWI-20"}, nobody.all
    unknown = zentrale("network", "check", "--only", "cabinett", cwd=site)
    assert unknown.code == 2 and "did you mean cabinet?" in unknown.err
    plain = make_site(tmp_path / "plain")
    assert 'snmp = "v3"' in zentrale("network", "check", cwd=plain).err
    assert zentrale("network", "here", "--wait", "0", cwd=site).code == 3


def test_what_breaks_off_is_not_told_and_never_a_zero(site: Path, tmp_path: Path, start_stand_in: StartStandIn) -> None:
    gaps = 'budget_w = 60\nbreaks_off = ["pethPsePortTable"]\nnot_told = ["dot3StatsTable", "dot1qPortVlanTable"]\n'
    start_stand_in(scenario(tmp_path, ("budget_w = 60\n", gaps)))
    told = checked(site, "--only", "cabinet").json
    (cabinet,) = told["switches"]
    assert {(p["poe"], p["duplex"], p["pvid"]) for p in cabinet["ports"]} == {(None, None, None)}
    text = " ".join(cabinet["not_told"])
    assert "breaks off" in text and "dot3StatsTable: it has no such table" in text and "dot1qPortVlanTable" in text
    assert not {"SWI-4", "SWI-7", "SWI-11", "SWI-14"} & {f["code"] for f in told["findings"]}


@pytest.fixture
def commissioned(site: Path, tmp_path: Path, start_stand_in: StartStandIn) -> Path:
    start_stand_in(scenario(tmp_path, ('name = "north"\n', 'name = "north"\nquirks = { restart_s = 0.4 }\n')))
    add = ("vault", "add", "admin", "--factory", "Umbra Works")
    assert zentrale(*add, cwd=site, ZENTRALE_PASSWORD="factory-1234").code == 0
    assert zentrale("discover", cwd=site).code in (0, 1)
    return site


def test_a_port_is_switched_only_where_it_is_proved_and_does_no_harm(
    commissioned: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(port_power, "OFF_S", 0.5)
    restart = ("network", "restart")
    done = zentrale(*restart, "south", "--json", cwd=commissioned)
    (south,) = done.json["ports"]
    assert (done.code, south["port"], south["refused"]) == (0, "cabinet:3", False), (
        "where it was seen, not where it is planned"
    )
    assert south["back_s"] < 10 and south["plays_s"] >= south["back_s"]
    west = zentrale(*restart, "west", cwd=commissioned)
    assert west.code == 1 and "no switch hears its MAC address" in west.out and "--port cabinet:4" in west.out
    for place, why in (
        ("cabinet:10", "it leads to old"),
        ("cabinet:9", "recorder hangs on it"),
        ("cabinet:4", "2 MAC addresses"),
    ):
        refused = zentrale(*restart, "--port", place, cwd=commissioned)
        assert refused.code == 2 and why in refused.err and "nothing was switched" in refused.err
    unproved = zentrale(*restart, "--port", "cabinet:9", "--yes", cwd=commissioned)
    assert unproved.code == 1 and "first_poe_index" in unproved.out, "what would prove it is said"
    assert zentrale(*restart, "--port", "cabinet:77", cwd=commissioned).code == 2
    with Logbook(commissioned / "logbook.sqlite") as logbook:
        changes = logbook.changes(step="port power")
    assert [(c.subject, c.before, c.after, c.state) for c in changes] == [("switch cabinet", "on", "on again", "done")]
    assert changes[0].after_state == {"port": 3, "row": [1, 3], "on": True}


def test_whoever_ends_it_the_power_comes_back(commissioned: Path) -> None:
    """Ctrl-C gives it back at once; after a kill the next command does so before anything else, once."""
    for how in (signal.SIGINT, signal.SIGKILL):
        begun = subprocess.Popen(
            [PROGRAM, "network", "restart", "north"],
            cwd=commissioned,
            env=environment(),
            stderr=subprocess.PIPE,
            text=True,
        )
        assert begun.stderr is not None
        while "power off" not in (line := begun.stderr.readline()):
            assert line, "it came to its end before"
        time.sleep(0.5)
        begun.send_signal(how)
        rest = begun.communicate(timeout=30)[1]
        told = checked(commissioned, "--only", "cabinet", "--no-guess")
        given_back = "cabinet:1, whose power an earlier command took away, has its power again"
        assert (given_back in told.err) == (how == signal.SIGKILL), rest
        poe = told.json["switches"][0]["ports"][0]["poe"]
        assert (poe["enabled"], poe["state"]) == (True, "deliveringPower")
    assert "took away" not in zentrale("network", "here", "--wait", "0", cwd=commissioned).err


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("budget_w = 60\n", "budget_w = 60\nignores_power = true\n"), "says OK, and gives power all the same"),
        (('"hide-made-up-2", writes = true', '"hide-made-up-2"'), "does not let switcher do that"),
        (("day_w = 9.1, night_w = 11.4, poe_class = 3", "day_w = 0"), "gives no power (searching)"),
    ],
)
def test_what_was_not_switched_is_not_said_to_be(
    site: Path,
    tmp_path: Path,
    start_stand_in: StartStandIn,
    monkeypatch: pytest.MonkeyPatch,
    change: tuple[str, str],
    said: str,
) -> None:
    monkeypatch.setattr(port_power, "OFF_S", 0.5)
    start_stand_in(scenario(tmp_path, change))
    told = zentrale("network", "restart", "--port", "cabinet:1", "--json", cwd=site)
    (port,) = told.json["ports"]
    assert told.code == 1 and port["refused"] and said in port["problem"], told.all
    assert "earlier command" not in checked(site, "--only", "cabinet", "--no-guess").err, (
        "nothing is left to be given back"
    )


def test_an_answer_that_is_lost_is_not_taken_for_no(
    site: Path, tmp_path: Path, start_stand_in: StartStandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It did what it was told, and its word of that was lost on the way: the port was dark, and nobody may say it was not."""
    told_to_set = Snmp.set

    async def lost(self: Snmp, where: tuple[int, ...], number: int) -> None:
        await told_to_set(self, where, number)
        if number == OFF:
            raise SilentError("no answer by SNMP")

    monkeypatch.setattr(Snmp, "set", lost)
    start_stand_in(scenario(tmp_path))
    told = zentrale("network", "restart", "--port", "cabinet:1", "--json", cwd=site)
    (port,) = told.json["ports"]
    assert told.code == 1 and not port["refused"] and "whether it was off is not known" in port["problem"], told.all
    assert [f["code"] for f in told.json["findings"]] == ["SWI-25"] and "nothing was" not in told.all
    after = checked(site, "--only", "cabinet", "--no-guess")
    assert after.json["switches"][0]["ports"][0]["poe"]["enabled"] and "earlier command" not in after.err


def test_discovery_knows_by_the_switch_who_it_is_and_why_it_is_not_seen(
    commissioned: Path, start_stand_in: StartStandIn
) -> None:
    """The row of north loses all that tells its device; that of south is planned where its MAC address is not."""
    rows = ROWS.replace("127.0.71.11,02:5a:71:00:00:11", ",").replace("east,east door", "east,east door")
    (commissioned / "cameras.csv").write_text(rows)
    found = zentrale("discover", "--json", cwd=commissioned).json
    assert {d["planned_as"] for d in found["devices"] if d["address"] == "127.0.71.11"} == {"north"}
    why = {f["subject"]: f["measured"] for f in found["findings"] if f["code"] in ("DIS-1", "DIS-11")}
    assert "it is plugged into cabinet:5" in why["camera east"] or "VLAN 72" in why["camera east"], why
    vault = Vault.open(commissioned / "vault.bin", environment()["ZENTRALE_PASSPHRASE"])
    writer = next(e.key for e in vault.contents.snmp if e.writes)

    async def dark() -> None:
        async with Snmp("127.0.71.8", 1161, writer, 0) as client:
            await client.set((1, 3, 6, 1, 2, 1, 105, 1, 1, 1, 3, 1, 3), 2)

    bound = zentrale("assign", "--by-port", cwd=commissioned)
    assert "north is the device at 127.0.71.11 (02:5a:71:00:00:11)" in bound.out
    assert "open  west at cabinet:4" in bound.out
    asyncio.run(dark())
    (commissioned / "cameras.csv").write_text(rows.replace("cabinet,2,30", "cabinet,3,30"))
    missing = zentrale("discover", "south", "--json", cwd=commissioned).json["findings"]
    assert "the power of its port cabinet:3 is switched off" in {f["measured"] for f in missing}, missing
    told = checked(commissioned, "--no-guess").json["findings"]
    both = {f["code"]: f["caused_by"] for f in told if "port 3" in f["subject"]}
    assert both == {"SWI-11": None, "SWI-10": "SWI-11 switch cabinet, port 3"}, "one cause is one fault"
    back = zentrale("network", "restart", "--port", "cabinet:3", "--json", cwd=commissioned).json["ports"][0]
    assert back["plays_s"] is not None, "whom the plan has at a dark port is waited for"


# net-snmp as a peer and as a reader: another hand's agent and client.


@pytest.fixture
def snmpd(tmp_path: Path) -> Iterator[Path]:
    """Debian's agent on the address of the switch "cabinet", which answers the tables of a file by pass_persist."""
    daemon = shutil.which("snmpd") or shutil.which("snmpd", path="/usr/sbin")
    if daemon is None:
        pytest.skip("no snmpd here")
    answers = tmp_path / "answers.txt"
    script = tmp_path / "answer.py"
    script.write_text(f"#!{sys.executable}\n{ANSWERING.format(file=str(answers))}")
    script.chmod(0o755)
    roots = ("1.3.6.1.2.1.2", "1.3.6.1.2.1.31", "1.3.6.1.2.1.17", "1.3.6.1.2.1.105", "1.3.6.1.2.1.10.7", "1.0.8802")
    passes = "".join(f"pass_persist .{root} {script}\n" for root in roots)
    user = f"createUser reader SHA-256 {SECRETS[0]} AES {SECRETS[1]}\nrouser reader priv .1\n"
    (tmp_path / "snmpd.conf").write_text(f"agentAddress udp:127.0.71.8:1161\n{passes}{user}")
    environ = {**os.environ, "SNMP_PERSISTENT_DIR": str(tmp_path / "state")}
    options = ["-f", "-C", "-c", str(tmp_path / "snmpd.conf"), "-LE", "w", "-I", "-ifTable,ifXTable,dot3StatsTable"]
    process = subprocess.Popen([daemon, *options], env=environ, stderr=subprocess.DEVNULL)
    time.sleep(1.0)
    yield answers
    process.terminate()
    process.wait(timeout=10)


ANSWERING = """
import sys
def rows():
    for line in open({file!r}):
        oid, kind, value = line.rstrip("\\n").split(" ", 2)
        yield tuple(map(int, oid.split(".")[1:])), oid, kind, value
while (asked := sys.stdin.readline().strip()):
    if asked == "PING":
        print("PONG", flush=True)
        continue
    wanted = tuple(map(int, sys.stdin.readline().strip().split(".")[1:]))
    some = sorted(rows())
    hit = next((r for r in some if (r[0] == wanted if asked == "get" else r[0] > wanted)), None)
    print("\\n".join(hit[1:]) if hit else "NONE", flush=True)
"""


def tables_by_hand() -> str:
    """Ports 1 and 2 as interfaces 7 and 8, bridge ports 4 and 3; PoE rows 1.1 and 1.2; written out from the RFCs."""
    rows = []
    for index, name, oper in ((7, "g1", 1), (8, "g2", 2)):
        entry = f".1.3.6.1.2.1.2.2.1.{{}}.{index}"
        cells = {
            2: ("string", name),
            3: ("integer", 6),
            5: ("gauge", 100000000),
            7: ("integer", 1),
            8: ("integer", oper),
        }
        cells |= dict.fromkeys((13, 14, 19, 20), ("counter", 0))
        rows += [f"{entry.format(c)} {kind} {value}" for c, (kind, value) in cells.items()]
        rows += [f".1.3.6.1.2.1.31.1.1.1.1.{index} string {name}", f".1.3.6.1.2.1.31.1.1.1.15.{index} gauge 100"]
        rows += [f".1.3.6.1.2.1.10.7.2.1.19.{index} integer 3", f".1.3.6.1.2.1.17.1.4.1.2.{11 - index} integer {index}"]
        rows += [f".1.3.6.1.2.1.17.7.1.4.5.1.1.{11 - index} gauge 71"]
    mac = ".2.90.113.0.0.17"  # 02:5a:71:00:00:11
    rows += [f".1.3.6.1.2.1.17.7.1.2.2.1.2.500{mac} integer 4", f".1.3.6.1.2.1.17.7.1.2.2.1.3.500{mac} integer 3"]
    rows += [".1.3.6.1.2.1.17.7.1.4.2.1.3.0.71 gauge 500"]
    rows += [f".1.3.6.1.2.1.17.7.1.4.2.1.{column}.0.71 octet 30" for column in (4, 5)]  # bridge ports 3 and 4
    for port, detection, found in ((1, 3, 4), (2, 2, 1)):
        cells = {
            3: ("integer", 1),
            6: ("integer", detection),
            7: ("integer", 2),
            10: ("integer", found),
            12: ("counter", 0),
        }
        rows += [f".1.3.6.1.2.1.105.1.1.1.{c}.1.{port} {kind} {value}" for c, (kind, value) in cells.items()]
    rows += [f".1.3.6.1.2.1.105.1.3.1.1.{c}.1 {v}" for c, v in ((2, "gauge 60"), (3, "integer 1"), (4, "gauge 7"))]
    return "\n".join(rows) + "\n"


def test_another_hands_agent_is_read_as_its_tables_say(site: Path, snmpd: Path) -> None:
    snmpd.write_text(tables_by_hand())
    (site / "types.toml").write_text(PLANNED.replace("poe_ports = 8\n", "poe_ports = 8\nfirst_poe_index = 1\n"))
    told = checked(site, "--only", "cabinet", "--no-guess")
    (cabinet,) = told.json["switches"]
    assert cabinet["answers"], told.all
    one, two = cabinet["ports"]
    assert (one["port"], one["up"], one["rate_mbps"], one["duplex"], one["pvid"]) == (1, True, 100, "full", 71)
    assert (one["macs"], one["device"], one["vlans"]) == (["02:5a:71:00:00:11"], "north", [71])
    assert (one["poe"]["state"], one["poe"]["class"], one["poe"]["priority"], one["poe"]["power_w"]) == (
        "deliveringPower", 3, "high", None,
    )  # fmt: skip
    assert (two["up"], two["macs"], two["poe"]["state"], two["poe"]["class"]) == (False, [], "searching", None)
    assert cabinet["power"] == {"budget_w": 60.0, "used_w": 7.0}


def test_another_hands_client_reads_the_same_of_a_stand_in(
    site: Path, tmp_path: Path, start_stand_in: StartStandIn
) -> None:
    walk = shutil.which("snmpbulkwalk")
    if walk is None:
        pytest.skip("no snmpbulkwalk here")
    start_stand_in(scenario(tmp_path))
    key = ["-v3", "-l", "authPriv", "-u", "reader", "-a", "SHA-256", "-A", SECRETS[0], "-x", "AES", "-X", SECRETS[1]]

    def read(root: str) -> dict[str, str]:
        asked = [walk, *key, "-On", "-Oe", "-m", "", "127.0.71.8:1161", root]
        lines = subprocess.run(asked, capture_output=True, text=True, check=True, timeout=30).stdout.splitlines()
        return {oid.rpartition(".")[2]: value for oid, _, value in (line.partition(" = ") for line in lines)}

    ports = checked(site, "--only", "cabinet").json["switches"][0]["ports"]
    states, detection = read("1.3.6.1.2.1.2.2.1.8"), read("1.3.6.1.2.1.105.1.1.1.6")
    assert [states[str(10000 + n)] for n in range(1, 11)] == [f"INTEGER: {1 if p['up'] else 2}" for p in ports]
    words = {"INTEGER: 2": "searching", "INTEGER: 3": "deliveringPower"}
    assert [words[detection[str(n)]] for n in range(1, 9)] == [p["poe"]["state"] for p in ports[:8]]
    assert read("1.3.6.1.2.1.99.1.1.1.4")["1001"] == f"INTEGER: {round(1000 * ports[0]['poe']['power_w'])}"


def test_the_vault_holds_what_opens_switches_and_forgets_what_was_replaced(
    site: Path, tmp_path: Path, start_stand_in: StartStandIn
) -> None:
    start_stand_in(scenario(tmp_path))
    checked(site)
    vault = Vault.open(site / "vault.bin", environment()["ZENTRALE_PASSPHRASE"])
    assert {s: k.name for (s, w), k in vault.contents.opens.items() if not w} == {
        "cabinet": "reader",
        "old": "everybody",
    }
    listed = zentrale("vault", "list", "--json", cwd=site)
    kinds = [(e["kind"], e["name"]) for e in listed.json["entries"]]
    assert ("SNMPv3, switches ports", "switcher") in kinds and ("SNMPv2c, reads", "everybody") in kinds
    assert not any(secret in listed.all for secret in (*SECRETS, "public"))
    short = zentrale(
        "vault", "add", "reader", "--snmp", cwd=site, ZENTRALE_PASSWORD="short", ZENTRALE_PRIVACY_PASSWORD="long enough"
    )
    assert short.code == 2 and "at least 8" in short.err
    changed = {"ZENTRALE_PASSWORD": "changed-made-up", "ZENTRALE_PRIVACY_PASSWORD": SECRETS[1]}
    assert zentrale("vault", "add", "reader", "--snmp", cwd=site, **changed).code == 0
    assert ("cabinet", False) not in vault.contents.opens
    for wrong in (("--writes",), ("--snmp", "--snmp-community"), ("--digest", "SHA-512"), ("--snmp", "--label", "x")):
        assert zentrale("vault", "add", "x", *wrong, cwd=site, ZENTRALE_PASSWORD="x").code == 2


MORE = '[[switches]]\nname = "{}"\ncabinet = "hall"\ntype = "switch-8"\nloop_protection = "rstp"\n'
CABLE = '[[links]]\na = "{}"\nb = "{}"\nrate_mbps = 1000\n'
RING = SITE.replace('type = "switch-8"\n', 'type = "switch-8"\nloop_protection = "rstp"\n')
RING += MORE.format("left") + MORE.format("right")
for ends in (("cabinet:7", "left:7"), ("left:8", "right:8"), ("right:7", "cabinet:8")):
    RING += CABLE.format(*ends)


@pytest.mark.parametrize(
    ("blocked", "down", "root", "codes"),
    [
        ("right:8", "", "cabinet", set()),
        ("", "", "cabinet", {"SWI-16"}),  # nothing keeps frames from going round
        ("", "left:8", "cabinet", {"SWI-16"}),  # open: the next break cuts off
        ("right:8", "", "left", {"SWI-15"}),  # the recorders are at "cabinet"
        ("right:8", "", "stranger", {"SWI-15"}),
    ],
)
def test_a_ring_is_closed_once_and_its_root_is_where_the_recorders_are(
    tmp_path: Path, blocked: str, down: str, root: str, codes: set[str]
) -> None:
    """Bridge identifiers by IEEE 802.1Q clause 13.26.2: priority and MAC address; state 2 is blocking, 5 forwarding (RFC
    4188).
    """
    net = plan_network(read_plan(SiteFolder(make_site(tmp_path, RING))))
    macs = {name: f"02:5a:71:00:09:{n:02x}" for n, name in enumerate(("cabinet", "left", "right", "stranger"))}
    asked = []
    for switch in net.plan.switches:
        ports = range(1, 11)
        place = f"{switch.name}:{{}}".format
        told: dict[str, Rows] = {
            "ifTable": {(n,): {"type": 6, "admin": 1, "oper": 2 if place(n) == down else 1} for n in ports},
            "ifXTable": {(n,): {"name": f"p{n}".encode()} for n in ports},
            "dot1dBasePortTable": {(n,): {"if_index": n} for n in ports},
            "dot1dStpPortTable": {(n,): {"state": 2 if place(n) == blocked else 5} for n in ports},
            "dot1dStp": {(0,): {"root": bytes((0x10, 0)) + bytes.fromhex(macs[root].replace(":", "")), "changes": 3}},
        }
        seen = understand(Told(told, {}, {}, 0, bridge_mac=macs[switch.name]), Shape(10))
        asked.append(Asked(switch, seen))
    assert {f.code for judged in judge_trees(net, asked) for f in judged.findings} == codes

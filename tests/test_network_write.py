"""The plan's network as files: each read by a program or a standard that is not ours."""

from __future__ import annotations

import contextlib
import json
import re
import shutil
import stat
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from yangson import DataModel  # type: ignore[import-untyped]
from yangson.enumerations import ContentType  # type: ignore[import-untyped]

from conftest import PASSPHRASE, make_vault, zentrale
from network_site import SITE, six
from test_network_plan import ONE_VLAN
from zentrale.errors import StorageError
from zentrale.jobs.network import writing
from zentrale.jobs.network.reading_back import disagreements, linux_commands, port_table
from zentrale.planning.network import plan_network
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.reading import read_plan

MODULES = Path(sys.prefix) / "share" / "yang" / "modules"  # they come with pyang
FEATURES = ["interface-attachment", "match-on-ipv4", "match-on-tcp", "match-on-udp", "match-on-icmp", "ipv4"]


@pytest.fixture
def written(tmp_path: Path) -> Path:
    folder = six(tmp_path)
    done = zentrale("network", "write", cwd=folder)
    assert done.code == 0, done.all
    return folder / "output" / "network"


def yang_model() -> DataModel:
    names = {
        "ietf-interfaces": "implement", "iana-if-type": "implement", "ietf-access-control-list": "implement",
        "ietf-ip": "implement",
        "ietf-yang-types": "import", "ietf-inet-types": "import", "ietf-packet-fields": "import", "ietf-ethertypes": "import",
    }  # fmt: skip
    modules = []
    for name, how in names.items():
        text = next(MODULES.rglob(f"{name}.yang")).read_text()
        revision, namespace = (re.search(p, text) for p in (r'revision\s+"?([\d-]{10})', r'namespace\s+"([^"]+)"'))
        assert revision and namespace
        features = FEATURES if name == "ietf-access-control-list" else []
        modules.append(
            {
                "name": name,
                "revision": revision[1],
                "namespace": namespace[1],
                "conformance-type": how,
                "feature": features,
            }
        )
    library = {"ietf-yang-library:modules-state": {"module-set-id": "x", "module": modules}}
    return DataModel(json.dumps(library), [str(MODULES / "ietf"), str(MODULES / "iana")])


def test_instance_data_passes_a_validator_and_says_what_it_leaves_out(written: Path) -> None:
    model = yang_model()
    for switch in ("core", "east", "west"):
        document = json.loads((written / switch / "instance-data.json").read_text())
        told = document["ietf-yang-instance-data:instance-data-set"]
        assert "802.1Q" in told["description"][0] and ("know no conversations" in str(told)) == (switch == "core")
        assert {"content-schema", "timestamp", "content-data"} <= set(told), "the wrapper of RFC 9195"
        model.from_raw(told["content-data"]).validate(ctype=ContentType.config)
    control, office = told_rules(written)
    allowed = [
        [(m["ipv4"].get("source-ipv4-network"), m["ipv4"]["destination-ipv4-network"], m.get("tcp"))
         for r in rules if r["actions"]["forwarding"].endswith("accept") for m in [r["matches"]]]
        for rules in (control, office)
    ]  # fmt: skip
    asks, answers = ({f"{way}-port": {"operator": "eq", "port": 554}} for way in ("destination", "source"))
    assert ("10.50.0.0/24", "10.40.0.21/32", asks) in allowed[1] and (
        "10.40.0.21/32",
        "10.50.0.0/24",
        answers,
    ) in allowed[0]
    assert ("10.50.0.0/24", "128.0.0.0/1", None) in allowed[1], "the internet is whatever lies in no zone"


def told_rules(written: Path) -> list[list[dict[str, Any]]]:
    document = json.loads((written / "core" / "instance-data.json").read_text())
    content = document["ietf-yang-instance-data:instance-data-set"]["content-data"]
    return [acl["aces"]["ace"] for acl in content["ietf-access-control-list:acls"]["acl"]]


def test_other_programs_take_the_files(written: Path) -> None:
    tried = 0
    if shutil.which("nft") and shutil.which("unshare"):
        for name in ("router.nft", "recorder.nft"):
            done = subprocess.run(
                ["unshare", "--user", "--map-root-user", "--net", "nft", "-c", "-f", str(written / name)],
                capture_output=True, text=True, check=False,
            )  # fmt: skip
            if "unshare" not in done.stderr:  # some systems give nobody a network of his own
                assert done.returncode == 0, done.stderr
                tried += 1
    if shutil.which("dnsmasq"):
        for file in (written / "dhcp").glob("*.conf"):
            subprocess.run(["dnsmasq", "--test", f"--conf-file={file}"], capture_output=True, check=True)
            tried += 1
    for script in written.glob("*/*.sh"):
        subprocess.run(["sh", "-n", str(script)], check=True)
        tried += 1
    assert tried >= 6


def test_a_private_vlan_is_kept_on_every_trunk(written: Path) -> None:
    """RFC 5517 by hand for `east`: frames of an isolated port go to the trunk with tag 20 and nowhere else; those that come with
    tag 30 (of a promiscuous port) go to both isolated ports; those with tag 20 to none of them.
    """
    script = (written / "east" / "openvswitch.sh").read_text()
    flood = dict(re.findall(r"table=30,reg0=(\d+),actions=(\S+)", script))
    assert flood == {"20": "mod_vlan_vid:20,output:9", "30": "output:1,output:2,mod_vlan_vid:30,output:9"}
    known = set(re.findall(r"table=20,priority=40,reg0=(\d+),reg2=(\d+)", script))
    assert known == {("20", "9"), ("30", "1"), ("30", "2"), ("30", "9")}
    core = (written / "core" / "openvswitch.sh").read_text()
    assert dict(re.findall(r"table=30,reg0=(\d+),actions=(\S+)", core)) == {
        "20": "output:3,mod_vlan_vid:20,output:1,output:2", "30": "output:3,mod_vlan_vid:30,output:1,output:2",
    }  # fmt: skip
    assert "add-port core p5 vlan_mode=access tag=40" in core and "trunks=30,20" in core


def test_rules_addresses_and_labels_are_those_of_the_plan(written: Path) -> None:
    router = (written / "router.nft").read_text()
    assert (
        'iifname "vlan50" ip saddr { 10.50.0.0/24 } oifname "vlan40" ip daddr { 10.40.0.21 } tcp dport 554 accept'
        in router
    )
    assert (
        'iifname "vlan50" ip saddr { 10.50.0.0/24 } oifname != { "vlan40", "vlan50" } accept' in router
        and router.count(" accept") == 3
    )
    legs = (written / "recorder.nft").read_text()
    assert 'iifname "eth0" ip daddr 10.40.0.21 drop' in legs and 'iifname "eth1" arp daddr ip 10.30.0.5 drop' in legs
    dhcp = (written / "dhcp" / "recording.conf").read_text().splitlines()
    assert "dhcp-range=10.30.0.200,10.30.0.210,255.255.255.0,43200" in dhcp and "dhcp-option=option:router" in dhcp
    assert "dhcp-host=02:5a:71:00:00:11,10.30.0.11,east-1" in dhcp and "dhcp-option=option:ntp-server,10.40.0.1" in dhcp
    assert not [line for line in dhcp if "west-2" in line], "its MAC address is not known"
    kea = json.loads((written / "dhcp" / "kea-dhcp4.json").read_text())["Dhcp4"]["subnet4"][0]
    assert (kea["id"], kea["subnet"], kea["pools"]) == (30, "10.30.0.0/24", [{"pool": "10.30.0.200 - 10.30.0.210"}])
    assert {"hw-address": "02:5a:71:00:00:13", "ip-address": "10.30.0.13", "hostname": "west-1"} in kea["reservations"]
    labels = (written / "labels.csv").read_text(encoding="utf-8-sig").splitlines()
    ends = [
        'east:1,east-1,"VLAN 20, 20 m"',
        'east-1,east:1,"VLAN 20, 20 m"',
        "core:1,east:9,VLAN 30+20",
        "east:9,core:1,VLAN 30+20",
    ]
    assert all(labels.count(end) == 1 for end in ends), "each end of a cable has its own"
    assert (written / "labels.html").read_text().count("east-1</div>") == 2, "one for either end"


def test_written_again_it_says_what_changed_and_takes_away_what_is_no_more(tmp_path: Path) -> None:
    folder = six(tmp_path)
    zentrale("network", "write", cwd=folder)
    again = zentrale("network", "write", "--json", cwd=folder).json
    assert {f["state"] for f in again["files"]} == {"as before"}
    mine = folder / "output" / "network" / "notes.txt"
    mine.write_text("somebody's own")
    site = folder / "site.toml"
    site.write_text(site.read_text().replace("vlan = 50", "vlan = 51"))
    dry = zentrale("network", "write", "--dry-run", "--json", cwd=folder).json
    changed = {f["path"]: f["lines"] for f in dry["files"] if f["state"] == "changed"}
    assert any(line.startswith("- ") and "vlan50" in line for line in changed["router.nft"])
    assert 'iifname "vlan50"' in (folder / "output/network/router.nft").read_text(), "a dry run writes nothing"
    site.write_text(re.sub(r"viewing = .*\n", "", site.read_text()))
    done = zentrale("network", "write", cwd=folder)
    assert "recorder.nft" in done.out and "removed" in done.out
    assert not (folder / "output/network/recorder.nft").exists() and mine.exists()


def test_what_somebody_has_edited_is_kept_beside_the_new_file(tmp_path: Path) -> None:
    folder = six(tmp_path)
    zentrale("network", "write", cwd=folder)
    rules = folder / "output/network/router.nft"
    written = rules.read_text()
    rules.write_text(written + "# mine\n")
    dry = zentrale("network", "write", "--dry-run", cwd=folder)
    assert "would be kept as router.nft.edited" in " ".join(dry.out.split()) and rules.read_text().endswith("# mine\n")
    done = zentrale("network", "write", cwd=folder)
    assert "is kept as router.nft.edited" in " ".join(done.out.split())
    assert rules.read_text() == written and rules.with_name("router.nft.edited").read_text() == written + "# mine\n"
    again = zentrale("network", "write", "--json", cwd=folder).json
    assert {(f["state"], f["kept_as"]) for f in again["files"]} == {("as before", None)}, "and is nobody's any more"
    rules.write_text(written + "# mine too\n")
    site = folder / "site.toml"
    site.write_text(re.sub(r"gateway = .*\n", "", site.read_text()).replace("routes = true\n", ""))
    told = {f["path"]: f for f in zentrale("network", "write", "--json", cwd=folder).json["files"]}
    assert (told["router.nft"]["state"], told["router.nft"]["kept_as"]) == ("removed", "router.nft.edited.2")
    assert not rules.exists() and rules.with_name("router.nft.edited.2").read_text().endswith("# mine too\n")
    assert rules.with_name("router.nft.edited").read_text().endswith("# mine\n"), "what was kept stays"


def test_stopped_anywhere_nothing_looks_edited(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each file of a changed plan but the first few is not written, as where the disk is full; then the plan changes again."""
    for stop in (0, 1, 2, 5, 8):
        site = SiteFolder(six(tmp_path / str(stop)))
        writing.write_network(site, plan_network(read_plan(site)), dry_run=False)
        left = iter(range(stop))

        def write(path: Path, content: bytes, left: Iterator[int] = left) -> None:
            if next(left, None) is None:
                raise StorageError("full", "")
            write_atomically(path, content)

        for vlan in (51, 52):
            site.site_file.write_text(re.sub("vlan = 5.", f"vlan = {vlan}", site.site_file.read_text()))
            with monkeypatch.context() as patched, contextlib.suppress(StorageError):
                if vlan == 51:
                    patched.setattr(writing, "write_atomically", write)
                told = writing.write_network(site, plan_network(read_plan(site)), dry_run=False)
        assert not [f for f in told.files if f.kept_as] and told.count("changed") >= 3
        assert not list((site.output / "network").rglob("*.edited*"))


def test_port_table_and_commands_are_read_back_and_compared(tmp_path: Path) -> None:
    folder = six(tmp_path, site=ONE_VLAN, wall=False)
    assert zentrale("network", "write", cwd=folder).code == 0
    written = folder / "output" / "network"
    for switch in ("core", "east", "west"):
        assert not list(disagreements(written / switch))
    table, linux = (
        port_table((written / "core/ports.csv").read_text()),
        linux_commands((written / "core/linux.sh").read_text()),
    )
    assert table[1].tagged == linux[1].tagged == frozenset((20,)) and table[5].untagged == linux[5].untagged == 40
    file = written / "east" / "linux.sh"
    file.write_text(file.read_text().replace("bridge vlan add dev p2 vid 20", "bridge vlan add dev p2 vid 21"))
    assert [where for where, _ in disagreements(written / "east")] == ["east:2"]


def test_secrets_go_where_they_are_asked_for_and_nowhere_else(tmp_path: Path) -> None:
    site = SITE.replace("[policy]", '[policy]\nauthentication = "802.1X"')
    folder = six(tmp_path / "site", site=site)
    make_vault(folder)
    inside = zentrale("network", "write", "--with-secrets", str(folder / "radius.txt"), cwd=folder)
    assert inside.code == 2 and "lies in the site folder" in inside.err
    file = tmp_path / "radius.txt"
    done = zentrale("network", "write", "--with-secrets", str(file), cwd=folder)
    assert done.code == 0 and stat.S_IMODE(file.stat().st_mode) == 0o600
    secret = re.findall(r'^east-1 Cleartext-Password := "(.{16})"$', file.read_text(), re.M)
    assert secret and secret[0] not in done.all
    users = (folder / "output/network/radius-users.txt").read_text()
    assert "east-1 Auth-Type := Reject" in users and 'Tunnel-Private-Group-Id = "20"' in users
    for path in folder.rglob("*"):
        assert not path.is_file() or secret[0].encode() not in path.read_bytes(), path
    zentrale("network", "write", "--with-secrets", str(file), cwd=folder)
    assert secret[0] in file.read_text(), "made once, and kept in the vault"
    by_mac = six(tmp_path / "mac", site=SITE.replace("[policy]", '[policy]\nauthentication = "mac-bypass"'))
    zentrale("network", "write", cwd=by_mac)
    told = (by_mac / "output/network/radius-users.txt").read_text()
    assert '025a71000011 Cleartext-Password := "025a71000011", Calling-Station-Id == "02-5A-71-00-00-11"' in told
    assert "west-2" not in told, "without a MAC address its port asks for none"
    assert PASSPHRASE not in told

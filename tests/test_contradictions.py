"""Plans that cannot work: each slip by itself, and what is said of it; a sound plan says nothing."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from five_site import five
from network_site import six
from zentrale.planning.media import reach_m
from zentrale.planning.multicast import plan_multicast
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

MINE = 'vlan = 71\nfixed = "127.0.71.10-127.0.71.22"\npool = "127.0.71.24-127.0.71.28"\n'
SHED = '[[switches]]\nname = "shed"\ncabinet = "shed"\ntype = "switch-8"\n'
LINK = SHED + '[[links]]\na = "cabinet:10"\nb = "shed:10"\nrate_mbps = 1000\n'
NATIVE = '[[zones]]\nname = "office"\nvlan = 72\nsubnet = "10.72.0.0/24"\n[[ports]]\nat = "cabinet:10"\ntagged = ["cameras"]\n'
NATIVE += 'native = "office"\n'
BOTH = '[[ports]]\nat = "cabinet:7"\naccess = "cameras"\ntagged = ["cameras"]\n'
WEAK, CLASS_5 = ('cable_category = "6"', 'cable_category = "3"'), "poe_class = 5\nday_w = 6.0\nmax_resolution"
GIGABIT = ("day_w = 6.0\nmax", "port_rate_mbps = 1000\nday_w = 6.0\nmax")
DESK = '[[viewers]]\nname = "desk"\nzone = "cameras"\nswitch = "cabinet"\nport = 8\nstream = "main"\n'
KEYS = "keyframe_interval_s = 1 }\nsub"
# What is changed of the plan (the first of its files that has it), and which codes `check` then says of whom.
SLIPS = [
    ("poe_class = 3\nday_w = 6.0\nmax_resolution", CLASS_5, WEAK, "RUN-3", "camera north"),
    (*WEAK, GIGABIT, "RUN-3", "camera north"),
    ("cords_m = 0", "cords_m = 15", (",1,20,", ",1,88,"), "RUN-4", "camera north"),
    ("[[recorders]]", LINK + "length_m = 101\n[[recorders]]", None, "RUN-6", "link cabinet:10 - shed:10"),
    ("[[recorders]]", LINK + 'length_m = 551\nmedium = "om3"\n[[recorders]]', None, "RUN-5", "link cabinet:10 - shed:10"),
    ("[[recorders]]", LINK + 'length_m = 101\nmedium = "copper"\n[[recorders]]', None, "RUN-5", "link cabinet:10 - shed:10"),
    ("[[recorders]]", BOTH + "[[recorders]]", None, "ZON-8", "port cabinet:7"),
    ("[[recorders]]", LINK + NATIVE + "[[recorders]]", None, "ZON-9", "link cabinet:10 - shed:10"),
    ("vlan = 71\n", 'vlan = 71\ngateway = "127.0.72.1"\n', None, "ADR-8", "zone cameras"),
    ("vlan = 71\n", 'vlan = 71\ngateway = "127.0.71.31"\n', None, "ADR-8", "zone cameras"),
    ("vlan = 71\n", MINE.replace(".24-", ".22-"), None, "ADR-9", "zone cameras"),
    ("vlan = 71\n", MINE.replace(".71.10", ".71.12"), None, "ADR-10", "camera north"),
    ("[[recorders]]", DESK.replace("main", "third", 1) + "[[recorders]]", ("third", "sub"), "", ""),
    ("bitrate_kbps = 300", "bitrate_kbps = 19", None, "TYP-3", "group all, main stream"),
    (KEYS, KEYS.replace("= 1 }", "= 11 }"), None, "TYP-4", "group all, main stream"),
    ("poe_class = 3\nday_w = 6.0\nmax", "day_w = 6.0\nmax", None, "PWR-15", "camera type larch-2"),
    ("poe_class = 3\nday_w = 6.0\nmax", 'supply = "mains"\nday_w = 6.0\nmax', None, "PWR-16", "camera north"),
]  # fmt: skip


def edited(parts: dict[str, str], old: str, new: str) -> None:
    name = next(name for name, text in parts.items() if old in text)
    parts[name] = parts[name].replace(old, new, 1)


@pytest.mark.parametrize(("old", "new", "more", "code", "subject"), SLIPS)
def test_a_slip_is_named_by_check_with_subject_and_remedy(
    tmp_path: Path, old: str, new: str, more: tuple[str, str] | None, code: str, subject: str
) -> None:
    parts = {"site": SITE, "types": TYPES, "cameras": CAMERAS}
    edited(parts, old, new)
    if more is not None:
        edited(parts, *more)
    make_site(tmp_path, parts["site"], parts["cameras"], parts["types"])
    done = zentrale("check", "--json", cwd=tmp_path).json
    said = [(f["code"], f["subject"]) for f in done["findings"]]
    assert said == ([(code, subject)] if code else []) and all(f["advice"] for f in done["findings"])
    if code:
        planned = zentrale("plan", "--json", cwd=tmp_path).json["findings"]
        assert (code, subject) in [(f["code"], f["subject"]) for f in planned], "and by plan, too"


def test_check_says_that_it_is_not_the_whole(tmp_path: Path) -> None:
    make_site(tmp_path, SITE, CAMERAS, TYPES)
    done = zentrale("check", cwd=tmp_path)
    assert done.code == 0 and "This is not the whole" in done.out and "hold together" in done.out
    wrong = make_site(tmp_path / "wrong", SITE.replace("vlan = 71\n", MINE.replace(".24-", ".22-")), CAMERAS, TYPES)
    faulty = zentrale("check", cwd=wrong)
    assert faulty.code == 1 and "share 127.0.71.22-127.0.71.22" in " ".join(faulty.out.split())


def test_a_stream_that_no_group_has_is_not_watched(tmp_path: Path) -> None:
    site = SITE.replace(SITE[SITE.index("sub = {") : SITE.index("[[switches]]")], "") + DESK.replace('"main"', '"sub"')
    (found,) = zentrale("check", "--json", cwd=make_site(tmp_path, site, CAMERAS, TYPES)).json["findings"]
    assert (found["code"], found["subject"]) == ("TRF-12", "viewer desk") and "group all has not" in found["measured"]


def test_reach_of_media_is_that_of_the_standard() -> None:
    """IEEE 802.3: 1000BASE-SX 550 m (clause 38), 10GBASE-SR 300 and 400 m (52), 10GBASE-LR 10 km, 10GBASE-T 100 m (55)."""
    table = {
        ("om3", 1000): 550,
        ("om3", 10_000): 300,
        ("om4", 10_000): 400,
        ("os2", 10_000): 10_000,
        ("copper", 10_000): 100,
    }
    assert {key: reach_m(*key)[0] for key in table} == table
    assert (
        reach_m("copper", 40_000)[0] == 30
        and reach_m("om4", 40_000)[0] == 150
        and "clause 86" in reach_m("om4", 40_000)[1]
    )


def test_a_time_server_that_cameras_do_not_reach_is_said(tmp_path: Path) -> None:
    """In the six switches' site it is the control zone's gateway, and the cameras have no way out; a recorder's own leg does."""

    def told(folder: Path) -> list[str]:
        return [
            f["subject"]
            for f in zentrale("plan", "zones", "--json", cwd=folder).json["findings"]
            if f["code"] == "RCH-5"
        ]

    assert told(six(tmp_path / "a")) == ["cameras in cameras"]
    site = (tmp_path / "a" / "site.toml").read_text()
    for name, server in (("b", "10.30.0.5"), ("c", "time.example"), ("d", "dhcp")):
        folder = six(tmp_path / name)
        (folder / "site.toml").write_text(site.replace('time_server = "10.40.0.1"', f'time_server = "{server}"'))
        assert told(folder) == [], server


def test_groups_reach_another_zone_only_where_somebody_brings_them(tmp_path: Path) -> None:
    """A router passes what has a gateway at both ends; without a copy nothing else does, whatever hops the group would live."""
    folder = six(tmp_path)
    site = (folder / "site.toml").read_text().replace("copies_multicast = true\n", "")
    (folder / "site.toml").write_text(site)
    lost = plan_multicast(read_plan(SiteFolder(folder)))
    assert [(f.code, str(f.subject)) for f in lost.findings] == [("MCT-4", "viewers in control")]
    assert {g.time_to_live for g in lost.groups} == {1}
    gateways = site.replace('subnet = "10.30.0.0/24"\n', 'subnet = "10.30.0.0/24"\ngateway = "10.30.0.1"\n')
    (folder / "site.toml").write_text(gateways)
    routed = plan_multicast(read_plan(SiteFolder(folder)))
    assert routed.findings == () and {g.time_to_live for g in routed.groups} == {2}


def test_groups_past_the_last_number_of_a_vlan_move_nobody(tmp_path: Path) -> None:
    """BLOCK.VLAN.NUMBER has 255 numbers. A camera beyond them gets none of the next VLAN's, where others have their own."""
    types = TYPES.replace("ports = 10\npoe_ports = 8", "ports = 64\npoe_ports = 64").replace(
        "channels = 4", "channels = 200"
    )
    zones = '[[zones]]\nname = "next"\nvlan = 72\nsubnet = "10.72.0.0/24"\n'
    site = (
        SITE
        + zones
        + DESK.replace('stream = "main"\n', 'stream = "main"\nsource = "camera"\nmulticast = true\n').replace(
            "port = 8", "port = 64"
        )
    )
    header = "name,type,group,zone,switch,port,run_length_m,recorder,channel\n"

    def groups(rows: dict[str, tuple[str, int]]) -> dict[str, str]:
        text = header + "".join(
            f"{name},larch-2,all,{zone},cabinet,{port},20,recorder,{channel}\n"
            for port, (name, (zone, channel)) in enumerate(rows.items(), 11)
        )
        folder = make_site(tmp_path / "-".join(rows), site.replace("port = 9", "port = 1"), text, types)
        return {g.camera: g.group for g in plan_multicast(read_plan(SiteFolder(folder))).groups}

    near = {"a": ("cameras", 1), "b": ("next", 2)}
    alone, more = groups(near), groups({"far": ("cameras", 129), **near})
    assert alone == {"a": "239.192.71.1", "b": "239.192.72.3"}
    assert {name: more[name] for name in near} == alone
    assert more["far"].split(".")[2] not in ("71", "72"), "2 x 128 is past the 255 numbers of VLAN 71"


def test_a_lens_that_is_advised_does_cure(tmp_path: Path) -> None:
    """1920 px over 2 d tan(a/2) at 10 m; 250 px/m are to be reached: 42.01°, so 42°; 6.4 mm sensor: 8.33 mm, so 8.4 mm."""
    types = TYPES.replace(
        'max_resolution = "1920x1080"\n', 'max_resolution = "1920x1080"\nsensor_width_mm = 6.4\nfocal_mm = 3.0\n', 1
    )
    site = SITE.replace('resolution = "320x180"', 'resolution = "1920x1080"')
    rows = CAMERAS.splitlines()
    cameras = f"{rows[0]},x_m,y_m,height_m,heading_deg,tilt_deg,target_m,wants\n{rows[1]},0,0,0,0,0,10,identify\n"
    make_site(tmp_path, site.replace("bitrate_kbps = 300", "bitrate_kbps = 3000"), cameras, types)
    (found,) = [f for f in zentrale("plan", "detail", "--json", cwd=tmp_path).json["findings"] if f["code"] == "DET-1"]
    assert "at most 42°, 8.4 mm or more of focal length" in found["advice"], found


def test_the_mode_that_draws_most_is_named(tmp_path: Path) -> None:
    """Dark is the same camera at night and when all comes together; the watts are those of the worst."""
    types = TYPES.replace("day_w = 6.0\nnight_w = 9.0\n", "day_w = 6.0\nnight_w = 8.0\ncold_w = 9.0\n").replace(
        "poe_budget_w = 60", "poe_budget_w = 13"
    )
    (found,) = [
        f
        for f in zentrale("plan", "power", "--json", cwd=make_site(tmp_path, SITE, CAMERAS, types)).json["findings"]
        if f["code"] == "PWR-1"
    ]
    assert "17.6 W drawn, all at once" in found["measured"] or "17." in found["measured"]


def test_a_forgotten_viewing_leg_is_remedied_by_its_key(tmp_path: Path) -> None:
    folder = five(tmp_path)
    text = (folder / "site.toml").read_text()
    (folder / "site.toml").write_text("\n".join(line for line in text.splitlines() if not line.startswith("viewing")))
    (found,) = [f for f in zentrale("plan", "zones", "--json", cwd=folder).json["findings"] if f["code"] == "RCH-3"]
    assert 'viewing = { zone = "control", switch, port, address } of [[recorders]]' in found["advice"]


def test_a_site_whose_masks_name_cameras_takes_a_schedule_in(tmp_path: Path) -> None:
    """The sample's own schedule, into the sample."""
    zentrale("new", str(tmp_path / "locks"), "--sample", "brackwater")
    folder = tmp_path / "locks"
    schedule = tmp_path / "schedule.csv"
    schedule.write_text((folder / "cameras.csv").read_text())
    before = read_plan(SiteFolder(folder)).cameras
    done = zentrale("import", str(schedule), cwd=folder)
    assert done.code == 0, done.all
    assert read_plan(SiteFolder(folder)).cameras == before
    lines = schedule.read_text().splitlines(keepends=True)
    header = next(line for line in lines if line.startswith("name,"))
    (folder / "cameras.csv").write_text(header)
    assert zentrale("import", str(schedule), cwd=folder).code == 0 and read_plan(SiteFolder(folder)).cameras == before
    (folder / "cameras.csv").write_text(header)
    schedule.write_text("".join(line for line in lines if not line.startswith("boat-yard-gate,")))
    refused = zentrale("import", str(schedule), cwd=folder)
    assert refused.code == 2 and "boat-yard-gate" in refused.err, "a mask of a camera that is not there is said"
    assert (folder / "cameras.csv").read_text() == header

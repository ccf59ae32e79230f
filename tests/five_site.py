"""A site of five switches with pages: a ring with spanning tree, a bundle at the end of a chain, a router."""

from __future__ import annotations

from pathlib import Path

from conftest import TYPES, make_site

HEAD = """\
[site]
name = "Five"
timezone = "Europe/London"
[policy]
cords_m = 0
cable_category = "6"
[[zones]]
name = "management"
vlan = 10
subnet = "10.10.0.0/24"
gateway = "10.10.0.1"
[[zones]]
name = "cameras"
vlan = 20
subnet = "10.20.0.0/24"
[[zones]]
name = "control"
vlan = 40
subnet = "10.40.0.0/24"
gateway = "10.40.0.1"
[[rules]]
from = "control"
from_kind = "viewer"
to = "management"
to_kind = "switch"
protocol = "tcp"
port = "443"
[[groups]]
name = "all"
main = { resolution = "320x180", fps = 10, bitrate_kbps = 300, keyframe_interval_s = 1 }
[[recorders]]
name = "recorder"
type = "recorder-4"
zone = "cameras"
switch = "core"
port = 5
address = "10.20.0.5"
viewing = { zone = "control", switch = "core", port = 7, address = "10.40.0.21" }
[[viewers]]
name = "desk"
zone = "control"
switch = "core"
port = 6
stream = "main"
"""
SWITCHES = {"core": "rstp", "hall": "", "north": "rstp", "south": "rstp", "tail": ""}
LINKS = [
    ("core:1", "hall:8", ""), ("core:3", "north:9", ""), ("core:4", "south:9", ""), ("north:8", "south:8", ""),
    ("hall:9", "tail:9", "b"), ("hall:10", "tail:10", "b"),
]  # fmt: skip
CAMERAS = """\
name,type,group,zone,switch,port,run_length_m,address,mac,recorder,channel
hall-1,larch-2,all,cameras,hall,1,20,10.20.0.11,,recorder,1
north-1,larch-2,all,cameras,north,1,20,10.20.0.12,,recorder,2
south-1,larch-2,all,cameras,south,1,20,10.20.0.13,,recorder,3
tail-1,larch-2,all,cameras,tail,1,20,10.20.0.14,,recorder,4
"""


def five(
    folder: Path, more: str = "", *, policy: str = "", page: bool = True, cameras: str = CAMERAS, types: str = TYPES
) -> Path:
    site = HEAD.replace("cords_m = 0\n", f"cords_m = 0\n{policy}")
    for number, (name, tree) in enumerate(SWITCHES.items(), 2):
        site += f'[[switches]]\nname = "{name}"\ncabinet = "hall"\ntype = "switch-8"\n'
        site += "routes = true\n" if name == "core" else ""
        site += f'loop_protection = "{tree}"\n' if tree else ""
        site += f'management = {{ zone = "management", address = "10.10.0.{number}" }}\n' if page else ""
    for a, b, bundle in LINKS:
        site += f'[[links]]\na = "{a}"\nb = "{b}"\nrate_mbps = 1000\n' + (f'bundle = "{bundle}"\n' if bundle else "")
    return make_site(folder, site + more, cameras, types)

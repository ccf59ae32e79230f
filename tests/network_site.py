"""A site of six devices on three switches: a private VLAN across trunks, a router, a recorder with two legs, a wall."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import TYPES, make_site
from zentrale.field.lab import namespaces, servers, switch

LACKS = [*namespaces.lacks(), *switch.lacks(), *servers.lacks()]
on_packets = pytest.mark.skipif(bool(LACKS), reason="; ".join(f"{x.what} is missing" for x in LACKS))

SITE = """\
[site]
name = "Six"
timezone = "Europe/London"
time_server = "10.40.0.1"
[policy]
cords_m = 0
cable_category = "6"
[[zones]]
name = "recording"
vlan = 30
subnet = "10.30.0.0/24"
[[zones]]
name = "cameras"
vlan = 20
subnet = "10.30.0.0/24"
primary = "recording"
pool = "10.30.0.200-10.30.0.210"
[[zones]]
name = "control"
vlan = 40
subnet = "10.40.0.0/24"
gateway = "10.40.0.1"
[[zones]]
name = "office"
vlan = 50
subnet = "10.50.0.0/24"
gateway = "10.50.0.1"
[[rules]]
from = "office"
to = "control"
to_kind = "recorder"
protocol = "tcp"
port = "554"
[[rules]]
from = "office"
to = "internet"
[[groups]]
name = "all"
main = { resolution = "320x180", fps = 10, bitrate_kbps = 300, keyframe_interval_s = 1 }
[[switches]]
name = "core"
cabinet = "hall"
type = "switch-8"
routes = true
copies_multicast = true
[[switches]]
name = "east"
cabinet = "hall"
type = "switch-8"
[[switches]]
name = "west"
cabinet = "hall"
type = "switch-8"
[[links]]
a = "core:1"
b = "east:9"
rate_mbps = 1000
[[links]]
a = "core:2"
b = "west:9"
rate_mbps = 1000
[[recorders]]
name = "recorder"
type = "recorder-4"
zone = "recording"
switch = "core"
port = 3
address = "10.30.0.5"
mac = "02:5a:71:00:00:21"
viewing = { zone = "control", switch = "core", port = 4, address = "10.40.0.21" }
"""
WALL = """\
[[viewers]]
name = "wall"
zone = "control"
switch = "core"
port = 5
stream = "main"
source = "camera"
MULTICAST
"""
CAMERAS = """\
name,type,group,zone,switch,port,run_length_m,address,mac,recorder,channel
east-1,larch-2,all,cameras,east,1,20,10.30.0.11,02:5a:71:00:00:11,recorder,1
east-2,larch-2,all,cameras,east,2,20,10.30.0.12,02:5a:71:00:00:12,recorder,2
west-1,larch-2,all,cameras,west,1,20,10.30.0.13,02:5a:71:00:00:13,recorder,3
west-2,larch-2,all,cameras,west,2,20,10.30.0.14,,recorder,4
"""


def six(folder: Path, *, wall: bool = True, site: str = SITE, cameras: str = CAMERAS) -> Path:
    """`wall`: it is fed by multicast; else it asks the recorder."""
    viewer = WALL.replace(
        'source = "camera"\nMULTICAST', 'source = "camera"\nmulticast = true' if wall else 'source = "recorder"'
    )
    return make_site(folder, site + viewer, cameras, TYPES)

"""Where a camera's way breaks, and whose fault it is: every fault of the stand-in against a table written by hand, and what is
pure by numbers worked out by hand.
"""

from __future__ import annotations

import runpy
from pathlib import Path
from typing import Any

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


def test_each_fault_is_found_at_its_layer_and_no_other(tmp_path: Path) -> None:
    """Two rounds while all are well, then all faults at once, each at a camera of its own."""
    site = tmp_path / "site"
    with TOOL["brought_to_plan"](site) as playing:
        for names in ((), ("well-*", "recorder")):
            assert TOOL["accused"](TOOL["diagnosed"](site, *names)) == []
        TOOL["break_all"](playing)
        broken = TOOL["diagnosed"](site)
    seen = {c["camera"]: (c["broken_at"], c["blame"]) for c in broken["cameras"]}
    assert {name: pair for name, pair in seen.items() if TABLE[name] != pair} == {} and set(seen) == set(TABLE)
    assert {c["camera"]: [a["code"] for a in c["also"]] for c in broken["cameras"] if c["also"]} == ALSO
    assert [(c["what"], c["cameras"]) for c in broken["common"]] == [("switch far", ["far-1", "far-2", "far-3"])]

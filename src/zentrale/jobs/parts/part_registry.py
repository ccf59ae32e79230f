"""The parts of `plan` by name, in the order in which they are shown. A part is a line here and its module.

Light on purpose: the help lists the parts, and a part is loaded only where it is asked for.
"""

from __future__ import annotations

import importlib

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from typing import Any

    from zentrale.jobs.parts.part import Part

PARTS = {
    "power": "PoE power of every switch in every mode, batteries",
    "traffic": "every port, link and recorder in both directions, and bursts of key frames",
    "storage": "days kept, and which recorder type fits",
    "zones": "who reaches whom, against the policy",
    "addresses": "blocks of each zone, a fixed address for every device",
    "ports": "the port table of each switch",
    "multicast": "groups, querier, snooping, the load with and without",
    "resilience": "what each failure costs",
    "detail": "pixels per metre at each target, and what no camera sees",
    "materials": "the tender: bill of materials, cable schedule, mains, heat and room of each cabinet, drives",
    "walls": "which stream in which panel of a wall, and what its decoder has to bear",
    "placement": "which cabinets, which switches, which camera where, at least cost",
}

PROPOSING = ("addresses", "multicast")  # those whose proposals can be entered into cameras.csv


def load(name: str) -> Part[Any]:
    """The part of that name. Raises KeyError."""
    if name not in PARTS:
        raise KeyError(name)
    part: Part[Any] = importlib.import_module(f"zentrale.jobs.parts.{name}_part").PART
    return part

"""Placement at scale: 300 cameras, 15 possible cabinets, 6 switch types, to a proven gap of 1 %, on one core.

Prints the CPU time, the gap, and the saving against every camera to its nearest cabinet, side by side, for several seeds.
"""

from __future__ import annotations

import os
import time

import numpy as np

from zentrale.planning import poe
from zentrale.planning.placing.problem import CabinetChoice, PlacementProblem, SwitchChoice
from zentrale.planning.placing.search import Solution, place

CAMERAS, CABINETS = 300, 15
TYPES = (
    SwitchChoice("8 af", 8, 8, 1, 58.0, 0.7e9, 160.0),
    SwitchChoice("8 at", 8, 8, 2, 117.0, 0.7e9, 210.0),
    SwitchChoice("8 bt", 8, 8, 3, 216.0, 0.7e9, 420.0),
    SwitchChoice("16 at", 16, 16, 2, 225.0, 0.7e9, 360.0),
    SwitchChoice("24 at", 24, 24, 2, 333.0, 7e9, 540.0),
    SwitchChoice("24 bt", 24, 24, 4, 666.0, 7e9, 1150.0),
)


def problem(seed: int) -> PlacementProblem:
    """Cameras in clusters on a site of 260 by 180 m; one in eight needs type 3; four modes."""
    random = np.random.default_rng(seed)
    cabinets = random.uniform((0, 0), (260, 180), (CABINETS, 2))
    centres = random.uniform((15, 15), (245, 165), (25, 2))
    cameras = centres[random.integers(0, 25, CAMERAS)] + random.normal(0, 14, (CAMERAS, 2))
    runs = np.linalg.norm(cameras[:, None] - cabinets[None], axis=2) * 1.3
    # Whoever stands too far from all is brought as near as the longest run allows.
    runs *= np.minimum(1, 88 / runs.min(axis=1))[:, None]
    strong = random.random(CAMERAS) < 1 / 8
    day = np.where(strong, random.uniform(15, 25, CAMERAS), random.uniform(4, 9, CAMERAS))
    modes = np.stack([day, day * 1.5, day * np.where(strong, 2, 1), day * np.where(strong, 1.7, 1)], axis=1)
    watts = np.array([[[poe.port_power_w(w, poe.Channel(r, category="6"), 6 if s else 3) or 0.0 for w in m] for r in row]
                      for row, m, s in zip(runs, modes, strong, strict=True)])  # fmt: skip
    loads = random.choice([3.2e6, 6.3e6, 12.7e6], CAMERAS)
    choices = tuple(
        CabinetChoice(f"cabinet {k}", float(p), 6) for k, p in enumerate(random.uniform(300, 1500, CABINETS))
    )
    needs = np.where(strong, 3, 1).astype(np.int64)
    names = tuple(f"cam-{n}" for n in range(CAMERAS))
    return PlacementProblem(names, choices, TYPES, runs, needs, watts, loads, 90.0, 0.1, 1.4)


def main() -> None:
    if hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
    print(
        f"{'seed':>4} {'time':>7} {'gap':>7} {'cost':>9} {'by hand':>9} {'saving':>7} {'cabinets':>8} {'switches':>8}"
    )
    for seed in range(10):
        started = time.process_time()
        plan = place(problem(seed), gap=0.01, time_s=90, clock=time.process_time)
        took = time.process_time() - started
        if not isinstance(plan, Solution):
            print(f"{seed:4} {took:6.1f}s {plan}")
            continue
        hand = plan.by_hand.total if plan.by_hand else float("nan")
        switches = sum(len(k.switches) for k in plan.cabinets)
        print(
            f"{seed:4} {took:6.1f}s {100 * plan.gap:6.2f}% {plan.cost.total:9.0f} {hand:9.0f} "
            f"{100 * (1 - plan.cost.total / hand):6.1f}% {len(plan.cabinets):8} {switches:8}"
        )


if __name__ == "__main__":
    main()

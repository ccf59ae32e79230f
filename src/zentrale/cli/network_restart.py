"""`zentrale network restart`: a port's power taken away and given back."""

from __future__ import annotations

import argparse

TYPE_CHECKING = False
if TYPE_CHECKING:
    from zentrale.cli.work import Work
    from zentrale.planning.network import NetworkPlan


def add_arguments(parser: argparse.ArgumentParser) -> None:
    pass


def run(work: Work, net: NetworkPlan) -> int:
    return 0

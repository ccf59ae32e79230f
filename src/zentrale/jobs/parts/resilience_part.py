"""What each failure costs."""

from __future__ import annotations

from collections.abc import Sequence

from zentrale import quantities
from zentrale.jobs.parts import power_part
from zentrale.jobs.parts.part import Asked, Made, Page, Part, Request
from zentrale.planning.failures import Failure
from zentrale.planning.resilience import ResiliencePlan, plan_resilience
from zentrale.site.model import Plan

_LONGEST_LIST = 12


def calculate(plan: Plan, made: Made, request: Request) -> ResiliencePlan:
    return plan_resilience(plan, made.of(power_part.PART), pairs=request.pairs)


def document(resilience: ResiliencePlan) -> dict[str, object]:
    def failures(items: Sequence[Failure]) -> list[dict[str, object]]:
        return [
            {
                "fails": f.name,
                "parts": [{"kind": part.kind, "name": part.name} for part in f.parts],
                "cameras_lost": list(f.lost),
                "zones_parted": list(f.parted_zones),
                "fullest_link": f.worst_link or None,
                "fullest_link_share": round(f.worst_share, 4) if f.worst_link else None,
            }
            for f in items
        ]

    return {
        "single_failures": failures(resilience.singles),
        "pairs_of_failures": failures(resilience.pairs),
        "harmless_parts": resilience.harmless,
    }


def show(page: Page, plan: Plan, result: ResiliencePlan, asked: Asked) -> None:
    show_resilience(page, plan, result, pairs=asked.pairs)


def show_resilience(page: Page, plan: Plan, resilience: ResiliencePlan, *, pairs: bool) -> None:

    def rows(failures: Sequence[Failure]) -> list[list[str]]:
        return [
            [
                f.name,
                str(len(f.lost)),
                quantities.share(len(f.lost), len(plan.cameras)),
                quantities.listed(f.lost, 4),
                ", ".join(f.parted_zones) or "-",
                f"{100 * f.worst_share:.0f} % on {f.worst_link}" if f.worst_link else "-",
            ]
            for f in failures[:_LONGEST_LIST]
        ]

    for title, failures in (("One part fails", resilience.singles), ("Two parts fail at once", resilience.pairs)):
        if failures:
            page.heading(f"{title}: what it costs, dearest first")
            columns = [
                "what fails",
                ">cameras lost",
                ">share",
                "which",
                "zones parted",
                "fullest link then",
            ]
            page.table(columns, rows(failures))
            if len(failures) > _LONGEST_LIST:
                page.line(f"and {len(failures) - _LONGEST_LIST} more (--json has all)")
    if pairs and not resilience.pairs:
        page.line("no two parts that fail at once cost more than the two one by one")
    if resilience.harmless:
        page.line(f"{quantities.count(resilience.harmless, 'part')} may fail without any loss")


def summary(plan: Plan, result: ResiliencePlan) -> str:
    if not result.singles:
        return "no single failure costs anything"
    worst = result.singles[0]
    return f"dearest failure: {worst.name}, {quantities.count(len(worst.lost), 'camera')}"


PART = Part("resilience", calculate, document, show, summary=summary)

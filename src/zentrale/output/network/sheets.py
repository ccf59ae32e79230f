"""Work sheets of switches as a page, to print and to tick off."""

from __future__ import annotations

from collections.abc import Sequence

from zentrale import quantities
from zentrale.output.page import environment
from zentrale.planning.by_hand.sheet import WorkSheet


def page(site: str, sheets: Sequence[WorkSheet]) -> bytes:
    """Each begins on a sheet of its own."""
    when = quantities.to_the_minute(quantities.now())
    template = environment().get_template("switch_sheets.html.j2")
    return template.render(site=site, sheets=sheets, when=when).encode()

"""Pages from templates: escaped, and without what could harm where it is shown."""

from __future__ import annotations

from functools import cache

import jinja2

from zentrale.words import clean_lines


@cache
def environment() -> jinja2.Environment:
    """One for all pages: a template is compiled once."""
    return jinja2.Environment(
        loader=jinja2.PackageLoader("zentrale.output", "templates"),
        autoescape=True,
        undefined=jinja2.StrictUndefined,
        finalize=_harmless,
    )


def _harmless(value: object) -> object:
    """Text of the page without control and direction characters, wherever it came from; markup of ours stays."""
    return clean_lines(value) if type(value) is str else value

"""Prints docs/findings.md, made from the registry of finding codes: `python tools/findings_page.py > docs/findings.md`."""

from __future__ import annotations

from zentrale.findings import CATALOGUE

HEAD = """\
# Finding codes

Made from `src/zentrale/pages/codes/` by `python tools/findings_page.py`.
`zentrale explain CODE` prints the same. A *fault* stops acceptance, a *warning* needs a decision, a *note* is worth
knowing.
"""


def page() -> str:
    parts = [HEAD]
    for entry in CATALOGUE.values():
        parts.append(f"## {entry.code}: {entry.title}\n\n*{entry.severity.value}*. {entry.explanation}\n")
        parts.append(f"What to do: {entry.advice}.\n")
    return "\n".join(parts)


if __name__ == "__main__":
    print(page(), end="")

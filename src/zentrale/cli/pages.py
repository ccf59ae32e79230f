"""The documentation inside the package: pages in Markdown, read on any laptop without a network."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from importlib import resources

from zentrale.cli.layout import wrapped
from zentrale.cli.output import Output

_FINDINGS = "findings"  # made from the registry
_ORDER = ("tutorial", "plan-files", "planning", "network", "discovery", "figures", "evidence", "scenario")


@dataclass(frozen=True)
class Key:
    """A key of the plan files: where it stands, its unit, what it means."""

    name: str
    where: str
    unit: str
    meaning: str


def topics() -> dict[str, str]:
    """Each page's title by its name, as they are best read; how-to pages last."""
    folder = resources.files("zentrale") / "pages"
    texts = {
        p.name.removesuffix(".md"): p.read_text(encoding="utf-8") for p in folder.iterdir() if p.name.endswith(".md")
    }
    rank = {name: i for i, name in enumerate(_ORDER)}
    names = sorted(texts, key=lambda name: (rank.get(name, len(rank)), name))
    titles = {name: texts[name].partition("\n")[0].lstrip("# ") for name in names}
    return {**titles, _FINDINGS: "Every finding code, what it means and what to do"}


def page(name: str) -> str:
    if name == _FINDINGS:
        from zentrale.findings import CATALOGUE

        entries = (
            f"## {e.code}: {e.title}\n\n{e.severity.value}. {e.explanation}\n\nWhat to do: {e.advice}."
            for e in CATALOGUE.values()
        )
        return "\n\n".join(("# Finding codes", *entries)) + "\n"
    return (resources.files("zentrale") / "pages" / f"{name}.md").read_text(encoding="utf-8")


def plan_keys() -> Iterator[Key]:
    """All keys of the plan files, from the tables of the page that explains them."""
    file, table = "", ""
    for line in page("plan-files").splitlines():
        if line.startswith("## "):
            file, table = line[3:].strip(), ""
        cells = _cells(line)
        if cells is None or len(cells) < 3 or cells[0] in ("table", "column", "kind"):
            continue
        has_table = len(cells) == 4
        if has_table and cells[0]:
            table = cells[0].strip("`")
        names, unit, meaning = cells[1 if has_table else 0], cells[-2], cells[-1]
        keys = [name.replace("`", "").strip() for name in names.split(",") if "`" in name]
        where = f"{file} {table}".strip() if has_table else file
        units, meanings = [part.strip() for part in unit.split(",")], [part.strip() for part in meaning.split(";")]
        for at, name in enumerate(keys):
            own_unit = units[at] if len(units) == len(keys) else unit
            yield Key(
                name,
                where,
                "" if own_unit == "-" else own_unit,
                meanings[at] if len(meanings) == len(keys) else meaning,
            )


def show(output: Output, text: str) -> None:
    """A page on a terminal: its tables as tables, its paragraphs as wide as there is room, its code as it is."""
    paragraph: list[str] = []
    table: list[list[str]] = []

    def flush() -> None:
        if table:
            rows = [[_plain(cell) for cell in row] for row in table if not all(set(c) <= set("-: ") for c in row)]
            output.table(rows[0], rows[1:])
            table.clear()
        if paragraph:
            bullet = paragraph[0][:2] in ("- ", "* ")
            for line in wrapped(_plain(" ".join(paragraph)), output.width or 100, "  " if bullet else "", ""):
                output.line(line)
            paragraph.clear()

    fenced = False
    for line in text.splitlines():
        cells = _cells(line)
        if line.startswith("```"):
            flush()
            fenced = not fenced
        elif fenced or line.startswith("    "):
            flush()
            output.verbatim(f"    {line}" if fenced else line)
        elif cells is not None:
            if paragraph:
                flush()
            table.append(cells)
        elif line.startswith("#"):
            flush()
            output.line()
            output.line(line.lstrip("# "), "bold")
        elif not line.strip():
            flush()
            output.line()
        else:
            if table or line[:2] in ("- ", "* "):
                flush()
            paragraph.append(line.strip())
    flush()


def _cells(line: str) -> list[str] | None:
    if not line.startswith("|"):
        return None
    return [cell.strip() for cell in line.strip().strip("|").split("|")]


def _plain(text: str) -> str:
    return text.replace("`", "").replace("**", "")

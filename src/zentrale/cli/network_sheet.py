"""One switch's work sheet on a terminal: 80 columns, a box to tick and one fact a line."""

from __future__ import annotations

from zentrale.cli.layout import wrapped

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.planning.by_hand.line import Line
    from zentrale.planning.by_hand.sheet import WorkSheet

_WHERE, _WIDTH = 22, 80  # characters; so wide in a pipe, too, since it is printed
_CODES = "A code in brackets is the finding that confirms the line once the switches are read; the others have your tick alone."


def _width(output: Output) -> int:
    return min(output.width or _WIDTH, _WIDTH)


def show(output: Output, sheet: WorkSheet) -> None:
    output.heading(f"{sheet.switch}: {sheet.about}")
    for note in (f"{len(sheet.lines)} lines, one fact each. {_CODES}", *sheet.notes):
        for part in wrapped(note, _width(output), "  ", "- "):
            output.verbatim(part)
    number = 0
    where = min(_WHERE, max(len(line.where) for line in sheet.lines))
    for part_of in sheet.rounds:
        output.heading(part_of.title)
        for line in part_of.lines:
            number += 1
            _show(output, number, line, where)


def _show(output: Output, number: int, line: Line, where: int) -> None:
    head, *more = wrapped(line.where, where, "", "")
    code = f" [{line.confirmed_by}]" if line.confirmed_by else ""
    why = f" ({line.why})" if line.why else ""
    indent = " " * (where + 9)
    shown = list(wrapped(f"{line.enter}{why}{code}", _width(output), indent, f"[ ] {number:>2}  {head:<{where}} "))
    for at, words in enumerate(more, 1):
        own = f"{' ' * 8}{words:<{where}} "
        if at < len(shown):
            shown[at] = own + shown[at][len(own) :]
        else:
            shown.append(own.rstrip())
    for text in shown:
        output.verbatim(text)


def document(sheet: WorkSheet) -> dict[str, object]:
    lines = [(part.number, line) for part in sheet.rounds for line in part.lines]
    return {
        "switch": sheet.switch,
        "about": sheet.about,
        "laptop": str(sheet.order.laptop) if sheet.order.laptop else None,
        "order": list(sheet.order.switches),
        "notes": list(sheet.notes),
        "lines": [
            {
                "number": number, "round": part, "where": line.where, "enter": line.enter, "why": line.why or None,
                "ports": list(line.ports), "confirmed_by": line.confirmed_by or None,
            }
            for number, (part, line) in enumerate(lines, 1)
        ],
    }  # fmt: skip

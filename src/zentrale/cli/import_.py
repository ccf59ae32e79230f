"""`zentrale import`: take a camera schedule into cameras.csv."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Sequence

    from zentrale.cli.output import Output
    from zentrale.jobs.importing import Import

DESCRIPTION = """\
Reads a camera schedule as people keep it, CSV or XLSX: any separator and encoding, title rows, decimal commas, units
in cells. Says which column it takes for which, what it made of names, and what would change. Every row that cannot be
used is named; nothing is written until all are right. Importing again updates."""
EXAMPLE = 'zentrale import schedule.xlsx --map run_length_m="Cable [m]" --default group=standard --dry-run'
_PREVIEW_ROWS = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="FILE", help="the schedule, CSV or XLSX")
    parser.add_argument("--sheet", metavar="NAME", help="sheet of an XLSX file (default: the first)")
    parser.add_argument(
        "--map", metavar="COLUMN=HEADER", action="append", default=[], help="take HEADER of the file for our COLUMN"
    )
    parser.add_argument(
        "--default", metavar="COLUMN=VALUE", action="append", default=[], help="take VALUE where the cell is empty"
    )
    parser.add_argument("--save-map", action="store_true", help="keep the mapping in import.toml for the next time")
    parser.add_argument("--remove-missing", action="store_true", help="remove cameras that the schedule does not name")
    options.add_dry_run(parser)
    options.add_site(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    import sys
    from pathlib import Path

    from zentrale.cli.output import Output
    from zentrale.jobs.importing import Request, prepare_import

    output = Output(args)
    folder = options.site_folder(args)
    request = Request(
        Path(args.file),
        args.sheet,
        _pairs("--map", args.map),
        _pairs("--default", args.default),
        args.remove_missing,
        args.save_map,
    )
    asks = sys.stdin.isatty() and sys.stderr.isatty() and not args.json
    prepared = prepare_import(folder, request, _asked if asks else None)
    written = [] if args.dry_run else prepared.write()
    if args.json:
        output.document(_document(prepared, dry_run=args.dry_run))
    _show(output, prepared)
    if args.dry_run:
        output.line("dry run: nothing was written", "bold")
    for path in written:
        output.line(f"wrote {path}", "bold")
    if not written and not args.dry_run:
        output.line("nothing to change: cameras.csv holds all this already", "bold")
    if args.dry_run:
        output.next(f"the same without --dry-run: `{_again(args, prepared)}`")
    else:
        output.next("`zentrale check`" if any("left open" in g for g in prepared.guesses) else "`zentrale plan`")
    return 0


def _again(args: argparse.Namespace, prepared: Import) -> str:
    """The line that makes it so: as it was typed, with what was answered."""
    from shlex import quote

    words = ["zentrale", "import", args.file, *(["--sheet", args.sheet] if args.sheet else [])]
    given = _pairs("--map", args.map)
    answered = {c: prepared.mapped.title(c) for c in prepared.asked if c not in given}
    words += [w for column, title in {**given, **answered}.items() for w in ("--map", f"{column}={title}")]
    words += [w for pair in args.default for w in ("--default", pair)]
    words += [option for option, on in (("--save-map", args.save_map), ("--remove-missing", args.remove_missing)) if on]
    words += ["--site", args.site] if args.site else []
    return " ".join(map(quote, words))


def _asked(column: str, titles: Sequence[str], likely: int | None) -> int | None:
    """Which title stands for a column; None where none does."""
    import sys

    say = sys.stderr.write
    say(f"which column is `{column}`?\n")
    for number, title in enumerate(titles, start=1):
        say(f"  {number:2}  {title}{'  (its cells look like it)' if number - 1 == likely else ''}\n")
    usual = "none" if likely is None else str(likely + 1)
    while True:
        say(f"  its number, 0 for none, Enter for {usual}: ")
        sys.stderr.flush()
        line = sys.stdin.readline()
        answer = line.strip()
        if not answer:
            return likely if line else None
        if answer.isascii() and answer.isdigit() and int(answer) <= len(titles):
            return int(answer) - 1 if int(answer) else None
        say(f"  {answer!r} is none of these\n")


def _pairs(option: str, given: list[str]) -> dict[str, str]:
    from zentrale.errors import InputError

    pairs = dict(item.split("=", 1) for item in given if "=" in item)
    for item in given:
        if "=" not in item or not item.split("=", 1)[1].strip():
            raise InputError(f"{option} {item}: not a pair", f"expected COLUMN=TEXT, such as {option} name=Place")
    return pairs


def _show(output: Output, prepared: Import) -> None:
    from zentrale import quantities

    mapped = prepared.mapped
    where = f" of sheet {prepared.sheet}" if prepared.sheet else ""
    output.heading(f"Columns, {prepared.mapping_source} from row {mapped.header.number}{where}")
    output.table(["ours", "in the file"], ([column, mapped.title(column)] for column in mapped.columns))
    if mapped.unused():
        output.line(f"not used: {', '.join(mapped.unused())}")
    if prepared.guesses:
        output.heading("Made or taken for granted")
        for guess in prepared.guesses[:_PREVIEW_ROWS]:
            output.line(f"  {guess}")
        if len(prepared.guesses) > _PREVIEW_ROWS:
            output.line(f"  and {len(prepared.guesses) - _PREVIEW_ROWS} more of the same kind")
    added = [c for c in prepared.changes if c.added]
    changed = [c for c in prepared.changes if c.cells]
    if added:
        output.heading(f"New: {quantities.count(len(added), 'camera')}")
        cameras = {camera.name: camera for camera in prepared.plan.cameras}
        output.table(
            ["name", ">row", "type", "switch", ">port", ">run [m]", "address", "recorder", ">channel"],
            (
                [c.name, str(c.row), cameras[c.name].type, cameras[c.name].switch or "open",
                 str(cameras[c.name].port or "open"), _run(cameras[c.name].run_length_m), cameras[c.name].host or "-", cameras[c.name].recorder,
                 str(cameras[c.name].channel)]
                for c in added[:_PREVIEW_ROWS]
            ),
        )  # fmt: skip
        if len(added) > _PREVIEW_ROWS:
            output.line(f"and {len(added) - _PREVIEW_ROWS} more")
    if changed:
        output.heading(f"Changed: {quantities.count(len(changed), 'camera')}")
        output.table(
            ["name", ">row", "column", "before", "after"],
            ([c.name, str(c.row), cell.column, cell.before, cell.after] for c in changed for cell in c.cells),
        )
    if prepared.missing:
        verb = "removed" if prepared.removed else "kept (--remove-missing takes them out)"
        output.heading(f"Not in the schedule, {verb}: {', '.join(prepared.missing)}")
    same = len(prepared.changes) - len(added) - len(changed)
    output.line()
    output.line(f"{len(added)} new, {len(changed)} changed, {same} as before", "bold")


def _run(length_m: float | None) -> str:
    return "open" if length_m is None else f"{length_m:g}"


def _document(prepared: Import, *, dry_run: bool) -> dict[str, object]:
    return {
        "dry_run": dry_run,
        "sheet": prepared.sheet or None,
        "header_row": prepared.mapped.header.number,
        "columns": {column: prepared.mapped.title(column) for column in prepared.mapped.columns},
        "not_used": prepared.mapped.unused(),
        "guesses": list(prepared.guesses),
        "added": [c.name for c in prepared.changes if c.added],
        "changed": {
            c.name: {cell.column: {"before": cell.before, "after": cell.after} for cell in c.cells}
            for c in prepared.changes
            if c.cells
        },
        "not_in_schedule": list(prepared.missing),
    }

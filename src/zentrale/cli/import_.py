"""`zentrale import`: take a camera schedule into cameras.csv."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
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
    prepared = prepare_import(folder, request)
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
    output.hint("next: `zentrale plan`")
    return 0


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
    output.heading(f"Columns, {prepared.mapping_source} from row {mapped.header.number}")
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
            [">row", "name", "type", "switch", ">port", ">run [m]", "address", "recorder", ">channel"],
            (
                [str(c.row), c.name, cameras[c.name].type, cameras[c.name].switch, str(cameras[c.name].port),
                 f"{cameras[c.name].run_length_m:g}", cameras[c.name].host or "-", cameras[c.name].recorder,
                 str(cameras[c.name].channel)]
                for c in added[:_PREVIEW_ROWS]
            ),
        )  # fmt: skip
        if len(added) > _PREVIEW_ROWS:
            output.line(f"and {len(added) - _PREVIEW_ROWS} more")
    if changed:
        output.heading(f"Changed: {quantities.count(len(changed), 'camera')}")
        output.table(
            [">row", "name", "column", "before", "after"],
            ([str(c.row), c.name, cell.column, cell.before, cell.after] for c in changed for cell in c.cells),
        )
    if prepared.missing:
        verb = "removed" if prepared.removed else "kept (--remove-missing takes them out)"
        output.heading(f"Not in the schedule, {verb}: {', '.join(prepared.missing)}")
    same = len(prepared.changes) - len(added) - len(changed)
    output.line()
    output.line(f"{len(added)} new, {len(changed)} changed, {same} as before", "bold")


def _document(prepared: Import, *, dry_run: bool) -> dict[str, object]:
    return {
        "dry_run": dry_run,
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

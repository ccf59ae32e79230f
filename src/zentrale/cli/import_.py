"""`zentrale import`: take a camera schedule into cameras.csv."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Sequence

    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.importing import Import
    from zentrale.jobs.importing_found import FoundImport

DESCRIPTION = """\
Reads a camera schedule as people keep it, CSV or XLSX: any separator and encoding, title rows, decimal commas, units
in cells, titles in six languages. Says which column it takes for which, what it made of names, and what would change.
Every row that cannot be used is named; nothing is written until all are right. Importing again updates.

With --found the devices that `zentrale discover` found and nobody planned enter the plan, with a name each and a type
made from what they tell. What no device tells (switch port, cable run, watts) is left open until it is known."""
EXAMPLE = """\
zentrale import schedule.xlsx --map run_length_m="Cable [m]" --default group=standard --dry-run
  zentrale import --found --name 'hall-{n:02}' --default switch=cabinet-1"""
_PREVIEW_ROWS = 12
_MOST_FOUND = 40


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="FILE", nargs="?", help="the schedule, CSV or XLSX")
    parser.add_argument("--sheet", metavar="NAME", help="sheet of an XLSX file (default: that with a camera table)")
    parser.add_argument(
        "--map", metavar="COLUMN=HEADER", action="append", default=[], help="take HEADER of the file for our COLUMN"
    )
    parser.add_argument(
        "--default", metavar="COLUMN=VALUE", action="append", default=[], help="take VALUE where the cell is empty"
    )
    parser.add_argument(
        "--save-map", action="store_true", help="keep sheet, mapping and defaults in import.toml for the next time"
    )
    parser.add_argument("--remove-missing", action="store_true", help="remove cameras that the schedule does not name")
    found = parser.add_argument_group("found devices")
    found.add_argument("--found", action="store_true", help="take in what the last discovery found and nobody planned")
    found.add_argument("--maker", metavar="NAME", default="", help="only devices of this maker")
    found.add_argument("--model", metavar="NAME", default="", help="only devices of this model")
    found.add_argument("--zone", metavar="NAME", default="", help="only those of this zone, and those that are in none")
    found.add_argument(
        "--range", metavar="FIRST-LAST", action="append", default=[], help="only those with these addresses"
    )
    found.add_argument(
        "--macs", metavar="FILE", help="only those of this table with columns mac and name, by these names"
    )
    found.add_argument(
        "--name", metavar="PATTERN", default="", help="how they are named, such as 'hall-{n:02}', in order of address"
    )
    found.add_argument("--channel", metavar="next", help="the next free channel of the recorder, as without it")
    options.add_dry_run(parser)
    options.add_no_wait(parser)
    options.add_site(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    import sys
    from pathlib import Path

    from zentrale.cli.work import Work
    from zentrale.jobs.importing import Request, prepare_import

    work = Work(args)
    output, folder = work.output, work.folder
    _check_usage(args)
    if args.found:
        return _take_found(work)
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
        output.next("the same without --dry-run", _again(args, prepared))
    else:
        output.next("`zentrale check`" if any("left open" in g for g in prepared.guesses) else "`zentrale plan`")
    return 0


def _check_usage(args: argparse.Namespace) -> None:
    """Raises InputError where the options do not fit together."""
    from zentrale.errors import InputError

    of_found = {name: getattr(args, name) for name in ("maker", "model", "zone", "range", "macs", "name", "channel")}
    of_file = {"FILE": args.file, "--sheet": args.sheet, "--map": args.map, "--save-map": args.save_map,
               "--remove-missing": args.remove_missing}  # fmt: skip
    stray = (
        [what for what, given in of_file.items() if given]
        if args.found
        else [f"--{n}" for n, g in of_found.items() if g]
    )
    if stray:
        other = "does not go with --found" if args.found else "goes with --found alone"
        raise InputError(f"{stray[0]} {other}", "give a schedule, or --found; `zentrale import --help` has both")
    if args.channel not in (None, "next"):
        raise InputError(
            f"--channel {args.channel}: not known", "expected next: the lowest that is free at its recorder"
        )
    if not args.found and args.file is None:
        raise InputError("what to import is not said", "give the file of a schedule, or --found")


def _take_found(work: Work) -> int:
    from pathlib import Path

    from zentrale.errors import InputError
    from zentrale.jobs.importing_found import Request, prepare_found

    args, output, folder = work.args, work.output, work.folder
    if not folder.logbook_file.exists():
        raise InputError("nothing was discovered yet", "run `zentrale discover` first")
    request = Request(
        args.maker, args.model, args.zone, tuple(args.range), Path(args.macs) if args.macs else None, args.name,
        _pairs("--default", args.default),
    )  # fmt: skip
    with work.alone("import", needed=not args.dry_run) as logbook:
        prepared = prepare_found(folder, work.plan, logbook, request)
        _show_found(output, prepared)
        written = [] if args.dry_run else prepared.write()
    if args.json:
        output.document({
            "dry_run": args.dry_run,
            "added": [{"name": a.name, "address": a.address or None, "mac": a.mac or None, "type": a.type, "channel": a.channel}
                      for a in prepared.added],
            "left_out": [{"address": out.address or None, "why": out.why} for out in prepared.left_out],
        })  # fmt: skip
    if args.dry_run:
        output.line("dry run: nothing was written", "bold")
    for path in written:
        output.line(f"wrote {path}", "bold")
    if args.dry_run and prepared.added:
        output.next("the same without --dry-run")
    elif prepared.added:
        output.next("`zentrale check` for what is open, then `zentrale register --dry-run`")
    else:
        output.next("`zentrale discover` again, where devices are missing here")
    return 0


def _show_found(output: Output, prepared: FoundImport) -> None:
    from zentrale import quantities

    if prepared.types:
        output.heading(f"New in types.toml: {quantities.count(len(prepared.types), 'type')}")
        output.table(
            ["type", "maker", "model", "up to", "codecs"],
            ([t.name, t.maker, t.model, quantities.resolution(*t.max_resolution) if t.max_resolution else "not told",
              ", ".join(t.codecs)] for t in prepared.types),
        )  # fmt: skip
    if prepared.added:
        output.heading(f"New in cameras.csv: {quantities.count(len(prepared.added), 'camera')}")
        shown = prepared.added if output.details else prepared.added[:_MOST_FOUND]
        output.table(
            ["name", "address", "MAC address", "type", "recorder", ">channel"],
            ([a.name, a.address or "none", a.mac or "not told", a.type, prepared.plan.camera(a.name).recorder, str(a.channel)]
             for a in shown),
        )  # fmt: skip
        if len(shown) < len(prepared.added):
            output.line(f"and {len(prepared.added) - len(shown)} more; --json has all")
    if prepared.left_out:
        output.heading(f"Left out: {len(prepared.left_out)}")
        why: dict[str, list[str]] = {}
        for out in prepared.left_out:
            why.setdefault(out.why, []).append(out.address)
        for reason, addresses in why.items():
            output.line(
                f"  {quantities.listed([a for a in addresses if a])}: {reason}" if any(addresses) else f"  {reason}"
            )
    output.line()
    if prepared.passed_over:
        output.line(f"{prepared.passed_over} other devices that nobody planned were not asked for")
    if prepared.open_columns:
        output.line(f"left open until somebody knows it: {', '.join(prepared.open_columns)}, and day_w of new types")
    text = "nothing to add: the plan has every found device that was asked for"
    output.line(f"{quantities.count(len(prepared.added), 'camera')} added" if prepared.added else text, "bold")


def _again(args: argparse.Namespace, prepared: Import) -> str:
    """The line that makes it so: as it was typed, with what was answered."""
    from shlex import quote

    words = ["zentrale", "import", args.file, *(["--sheet", args.sheet] if args.sheet else [])]
    given = _pairs("--map", args.map)
    answered = {c: prepared.mapped.title(c) for c in prepared.asked if c not in given}
    words += [w for column, title in {**given, **answered}.items() for w in ("--map", f"{column}={title}")]
    given = {**_pairs("--default", args.default), **prepared.for_all}
    words += [w for column, value in given.items() for w in ("--default", f"{column}={value}")]
    words += [option for option, on in (("--save-map", args.save_map), ("--remove-missing", args.remove_missing)) if on]
    words += ["--site", args.site] if args.site else []
    return " ".join(map(quote, words))


def _asked(column: str, titles: Sequence[str], likely: int | None, values: Sequence[str]) -> int | str | None:
    """Which title stands for a column, or what stands there in all rows; None for neither."""
    import sys

    from zentrale.quantities import listed
    from zentrale.words import clean

    say = sys.stderr.write
    say(f"which column is `{column}`?\n")
    for number, title in enumerate(titles, start=1):
        say(f"  {number:2}  {clean(title)}{'  (its cells look like it)' if number - 1 == likely else ''}\n")
    if values:
        say(f"      or one for all rows: {listed(values, 14)}\n")
    usual = "none" if likely is None else str(likely + 1)
    while True:
        say(f"  its number{', or one of these words' if values else ''}; Enter for {usual}: ")
        sys.stderr.flush()
        line = sys.stdin.readline()
        answer = line.strip()
        if not answer:
            return likely if line else None
        if answer.isascii() and answer.isdigit() and int(answer) <= len(titles):
            return int(answer) - 1 if int(answer) else None
        if answer in values:
            return answer
        say(f"  {clean(answer, 40)!r} is none of these; 0 is for none\n")


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
                 str(cameras[c.name].port or "open"), _run(cameras[c.name].run_length_m), cameras[c.name].host or "-",
                 cameras[c.name].recorder,
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
        output.heading(f"Not in the schedule, {verb}: {quantities.listed(prepared.missing, 14)}")
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

"""`zentrale recordings save` and `check`: films of what is stored, and whether they are still what was saved."""

from __future__ import annotations

import argparse

from zentrale.cli import recordings_play

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Sequence

    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.recordings.films import Saved

COMMAND = "recordings save"
_LONGEST_H = 24.0


def add_arguments(parser: argparse.ArgumentParser) -> None:
    recordings_play.add_times(parser)
    parser.add_argument("--to-folder", metavar="FOLDER", help="where the files go (default: output/recordings/clips)")


def add_check_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("files", metavar="FILE", nargs="+", help="films that `recordings save` wrote")


def run(work: Work) -> int:
    import asyncio
    import socket
    from pathlib import Path

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_BAD_INPUT, EXIT_FAULTS, InputError
    from zentrale.jobs.known.selection import select
    from zentrale.jobs.recordings.clips import save
    from zentrale.jobs.recordings.films import keep_with

    args, output, plan = work.args, work.output, work.plan
    if not (args.begin and args.end):
        raise InputError("recordings save: no interval is said", "give --from TIME and --to TIME")
    span = recordings_play.interval(work)
    hours = (span[1] - span[0]).total_seconds() / 3600
    if hours > _LONGEST_H:
        raise InputError(f"--to {args.end}: {hours:.0f} h after --from", f"expected at most {_LONGEST_H:g} h at once")
    cameras = select(plan, args.only)
    folder = Path(args.to_folder) if args.to_folder else work.folder.output / "recordings" / "clips"
    work.vault_if_any()
    vantage = socket.gethostname()
    missing: list[str] = []
    with work.logging() as logbook, output.progress("saving", len(cameras)) as step:
        keyring = work.keyring()
        scope = {
            "cameras": [c.name for c in cameras], "from": span[0].isoformat(), "to": span[1].isoformat(), "reason": args.reason,
        }  # fmt: skip
        with logbook.running(COMMAND, vantage, scope) as number:
            keep = keep_with(keyring, number, plan, args.reason, vantage, missing.append)
            saved = asyncio.run(save(plan, keyring, cameras, span, folder, keep, step))
    clips = [clip for row in saved for clip in row.clips]
    for what in missing:
        output.notice(f"{what}: its digest is in the logbook alone")
    if args.json:
        says = {row.camera: row.says for row in saved if row.says}
        output.document({"clips": [clip.document() for clip in clips], "says": says})
    _show(output, saved)
    if not clips:
        return EXIT_BAD_INPUT
    return EXIT_FAULTS if any(row.says or not row.clips for row in saved) else EXIT_AS_PLANNED


def _show(output: Output, saved: Sequence[Saved]) -> None:
    from pathlib import Path

    from zentrale import quantities

    clips = [clip for row in saved for clip in row.clips]
    short = [row for row in saved if row.says]
    text = f"{quantities.count(len(clips), 'film')} of {quantities.count(len(saved), 'channel')}"
    if clips and not short:
        output.line(f"OK  {text}, nothing of it encoded anew", "bold green")
    else:
        output.line(f"FAULTS  {text}; {quantities.count(len(short), 'channel')} not as asked for", "bold red")
    output.line()
    if clips:
        rows = [
            [
                clip.camera, quantities.moment(clip.begin), quantities.seconds((clip.end - clip.begin).total_seconds()),
                str(clip.frames), f"{'warning|' if clip.lost else ''}{clip.lost}", Path(clip.file).name,
            ]
            for clip in clips
        ]  # fmt: skip
        output.table(["camera", "from", ">long", ">pictures", ">lost packets", "file"], rows)
    for row in short:
        for said in row.says:
            output.said(row.camera, said)
    for why in dict.fromkeys(row.silent for row in saved if row.silent and row.clips):
        output.line(f"sound is stored too, and is not in the films: {why}", "yellow")
    for note in (note for row in saved for note in row.notes):
        output.line(note, "yellow")
    if clips:
        output.line(f"in {Path(clips[0].file).parent}, with a JSON beside each; for nobody else to read")
        output.next("`zentrale recordings check FILE` tells whether a film is still what was saved")
    else:
        output.next("`zentrale recordings` shows what there is")


def run_check(work: Work) -> int:
    from pathlib import Path

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.jobs.recordings.films import check

    args, output = work.args, work.output
    with work.logging() as logbook:
        checked = [check(Path(file), logbook) for file in args.files]
    if args.json:
        output.document({
            "files": [{"file": c.file, "sha256": c.sha256, "same": c.same, "says": list(c.says)} for c in checked],
        })  # fmt: skip
    for each in checked:
        word, style = {True: ("OK", "green"), False: ("FAULT", "red"), None: ("NOT JUDGED", "yellow")}[each.same]
        what = {True: "as it was saved", False: "not as it was saved", None: "nothing is known of it"}[each.same]
        output.line(f"{word}  {each.file}: {what}", f"bold {style}")
        about = each.clip
        if about is not None:
            output.line(
                f"  {about.get('camera')}, {about.get('from')} to {about.get('to')}, {about.get('frames')} pictures"
            )
        output.line(f"  SHA-256 {each.sha256}; {', '.join(each.says)}")
    return EXIT_AS_PLANNED if all(c.same for c in checked) else EXIT_FAULTS

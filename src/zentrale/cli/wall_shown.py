"""What the trial of a wall shows to the person: what came late or not at all, what was lost, what this machine decodes."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.walls.trial import PanelTrial, WallTrial


def run(work: Work) -> int:
    """`zentrale verify --wall NAME`."""
    import asyncio

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.findings import count_faults
    from zentrale.jobs.checks.check import Request
    from zentrale.jobs.walls.trial import seconds_of, try_wall
    from zentrale.planning.walls.wall_plan import plan_walls
    from zentrale.protocols.rtsp_client import Transport
    from zentrale.words import meant

    args, output, plan = work.args, work.output, work.plan
    names = [wall.name for wall in plan.walls]
    if args.wall not in names:
        known = f"expected one of: {', '.join(names)}" if names else "none is planned: `zentrale help walls`"
        raise InputError(f"--wall {args.wall}: no such wall{meant(args.wall, names)}", known)
    made = plan_walls(plan).of(args.wall)
    work.vault_if_any()
    seconds = seconds_of(made) if args.seconds is None else args.seconds
    output.hint(f"playing wall {args.wall} for {seconds:g} s: {len(made.panels)} panels at once")
    request = Request(seconds, Transport(args.transport) if args.transport else None, None, args.answer_within, 0)
    with work.logging(), output.progress("playing", 2) as step:
        result = asyncio.run(try_wall(plan, made, work.keyring(), request, decode=args.decode, progress=step))
    if args.json:
        output.document(_document(result))
    if result.unreached is not None:
        raise result.unreached
    _show(output, result)
    output.reports(result.reports, args.site)
    return EXIT_FAULTS if count_faults(result.findings) else EXIT_AS_PLANNED


def _document(result: WallTrial) -> dict[str, object]:
    from zentrale.cli.output import finding_document, verdict_of
    from zentrale.jobs.walls.trial import panel_document

    return {
        "verdict": verdict_of(result.findings), "wall": result.made.wall.name, "viewer": result.made.wall.viewer,
        "vantage": result.vantage, "seconds": result.seconds, "panels": [panel_document(p) for p in result.panels],
        "bears": [
            {"codec": b.codec, "pixels_per_s": round(b.pixels_per_s), "frames_per_s": round(b.frames_per_s, 1),
             "frames": b.frames, "waiting": b.waiting, "processors": b.processors}
            for b in result.bears
        ],
        "not_judged": list(result.not_judged), "findings": [finding_document(f) for f in result.findings],
    }  # fmt: skip


def _show(output: Output, result: WallTrial) -> None:
    from zentrale import quantities
    from zentrale.planning.walls.decoder import megapixels

    turns = [t for p in result.panels for t in p.turns]
    played = sum(t.measured is not None for t in turns)
    said = f"{played} of {quantities.count(len(turns), 'stream')} played in {quantities.count(len(result.panels), 'panel')}"
    unknown = bool(result.not_judged)
    good = (
        f"wall {result.made.wall.name} plays as planned" if not unknown else "nothing is wrong, and not all was judged"
    )
    output.result(result.findings, good, said, unknown=unknown)
    for what in result.not_judged:
        output.line(f"not judged: {what}")
    output.heading(f"Wall {result.made.wall.name}, for {result.seconds:g} s from {result.vantage}")
    columns = ["panel", "camera", "stream", ">first picture", ">lost", "looks", "?>turns"]
    output.table(columns, (_row(panel) for panel in result.panels))
    if result.bears:
        output.heading(f"What this machine decodes, by {quantities.count(result.bears[0].processors, 'processor')}")
        rows = [
            [
                b.codec,
                megapixels(b.pixels_per_s),
                f"{b.frames_per_s:.0f}",
                str(b.frames),
                str(b.waiting) if b.waiting else "none",
            ]
            for b in result.bears
        ]
        output.table(["codec", ">bears", ">frames/s", ">decoded here", ">came behind"], rows)
        output.line("as software of [[viewer_types]] in types.toml has it: pixels_per_s, frames_per_s")
    if result.findings:
        output.next("see to what is named, then `zentrale verify --wall` again")
    else:
        output.next("enlarge each panel once, by hand: `zentrale plan walls` says what the machine bears then")


def _row(panel: PanelTrial) -> list[str]:
    """The worst of its turns."""
    slow = [t.first_picture_s for t in panel.turns if t.first_picture_s is not None]
    measured = [t.measured for t in panel.turns if t.measured]
    cameras = list(dict.fromkeys(t.camera for t in panel.turns))
    lost = sum(m.packets_lost for m in measured)
    scale = panel.enlarged
    looks = "-" if scale is None else f"enlarged {scale:.1f} times" if scale > 1.02 else "sharp"
    failed = sum(t.measured is None for t in panel.turns)
    first = "fault|none" if not slow else f"{max(slow):.1f} s" + (" at most" if len(slow) > 1 else "")
    return [
        panel.name, cameras[0] if len(cameras) == 1 else f"{len(cameras)} in turn", panel.view.offer.stream, first,
        f"{lost}/{sum(m.packets_expected for m in measured)}", looks,
        f"{len(panel.turns) - failed}/{len(panel.turns)}",
    ]  # fmt: skip

"""`zentrale assign`: bind a found device to a planned one by hand."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.work import Work
    from zentrale.logbook.store import Logbook

DESCRIPTION = """\
Binds a device of the last discovery, named by its address, its MAC address or its last digits, to a planned camera or
recorder: for plans without MAC addresses, and for devices at another address than planned. --walk goes through those that
are open, one by one, with a picture of what each sees; --by-port binds all at whose switch port one device alone was
heard. A full rtsp:// address is the main stream of a camera that speaks RTSP only. Kept in the logbook; the plan files are
not touched."""
EXAMPLE = "zentrale assign upper-gate-north 192.168.1.64"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    name = parser.add_argument("name", metavar="CAMERA", nargs="?", help="name of a planned camera or recorder")
    options.completes(name, options.complete_cameras)
    parser.add_argument(
        "device", metavar="DEVICE", nargs="?", help="address or MAC address of a found device, or an rtsp:// address"
    )
    parser.add_argument("--walk", action="store_true", help="go through the open ones: picture, candidates, one key")
    parser.add_argument(
        "--by-port", action="store_true", help="bind all open ones at whose switch port exactly one device was heard"
    )
    parser.add_argument("--remove", action="store_true", help="take the binding back")
    parser.add_argument(
        "--yes", action="store_true", help="also a device that is recognised as another one of the plan"
    )
    options.add_entering(parser)
    options.add_no_wait(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli.work import Work
    from zentrale.errors import InputError
    from zentrale.jobs.discovery.assigning import assign, assign_stream, check_name, recognised_as, unassign

    alone = "--walk" if args.walk else "--by-port" if args.by_port else ""
    if alone and (args.name or args.device or args.remove or (args.walk and args.by_port)):
        raise InputError(f"assign {alone} takes no camera and no device", "give it alone")
    if not alone and (args.name is None or args.remove == (args.device is not None)):
        raise InputError("assign: a device is missing" if not args.remove else "assign --remove takes a camera and no device",
                         "give CAMERA DEVICE, CAMERA --remove, --walk, or --by-port")  # fmt: skip
    work = Work(args)
    output, plan = work.output, work.plan
    if args.walk:
        work.vault_if_any()
    with work.alone("assign") as logbook:
        if args.walk:
            _walk(work, logbook)
        elif args.by_port:
            _by_port(work, logbook)
        elif args.remove:
            unassign(plan, logbook, args.name)
            output.line(f"{args.name} is bound to no device by hand any more")
        elif "://" in args.device:
            address = assign_stream(plan, logbook, args.name, args.device)
            output.line(f"the main stream of {args.name} is at {address}")
        else:
            check_name(plan, args.name)
            other = recognised_as(plan, logbook, args.name, args.device)
            what = f"{args.device} is recognised as {other}"
            if other and not args.yes and not output.ask(f"{what}. Is it {args.name} all the same?"):
                raise InputError(f"{what}, not {args.name}", "give another device, or bind it all the same with --yes")
            binding = assign(plan, logbook, args.name, args.device)
            output.line(f"{binding.name} is the device at {binding.address} ({binding.mac or 'MAC address not told'})")
    output.hint("next: `zentrale register`; what the last discovery saw is matched with the new binding")
    return 0


def _by_port(work: Work, logbook: Logbook) -> None:
    from zentrale import quantities
    from zentrale.jobs.discovery.assigning import assign_by_port

    bound, left = assign_by_port(work.plan, logbook)
    for binding in bound:
        work.output.line(f"{binding.name} is the device at {binding.address} ({binding.mac}), heard alone at its port")
    for text in left:
        work.output.line(f"open  {text}", "yellow")
    if not bound:
        work.output.line("nothing was bound: each camera is known by its own identity, or stays open as told")
    else:
        work.output.line(f"{quantities.count(len(bound), 'camera')} bound by port", "bold")


def _walk(work: Work, logbook: Logbook) -> None:
    """One device after the other, until all are named or the person has enough. Each answer is kept at once."""
    import asyncio

    from zentrale.jobs.discovery.assigning import assign, unassign
    from zentrale.jobs.discovery.walking import open_devices, picture_of

    output, plan, keyring = work.output, work.plan, work.keyring()
    passed: set[str] = set()
    answered: list[tuple[str, str]] = []  # address and the name it got, in order
    while left := [o for o in open_devices(plan, logbook) if o.device.address not in passed]:
        item = left[0]
        device = item.device
        passed.add(device.address)
        output.line()
        what = " ".join(p for p in (device.maker, device.model) if p) or device.announced or "make not told"
        output.line(f"{device.address}  {what}  {device.mac or 'MAC address not told'}  {device.state}", "bold")
        file, why = asyncio.run(picture_of(keyring, device, work.folder.output / "walk"))
        output.verbatim(f"  picture: {file}{f' ({why})' if why else ''}" if file else f"  no picture: {why}")
        for number, name in enumerate(item.may_be, start=1):
            camera = next((c for c in plan.cameras if c.name == name), None)
            output.line(f"  {number}  {name}{f', {camera.shows}' if camera and camera.shows else ''}")
        answer = _asked(item.may_be, back=bool(answered))
        if answer is None:
            return
        if answer == _BACK:
            passed.discard(device.address)
            address, name = answered.pop()
            passed.discard(address)
            if name:
                unassign(plan, logbook, name)
                output.line(f"  {name} is open again")
            continue
        answered.append((device.address, answer))
        if answer:
            assign(plan, logbook, answer, device.address)
            output.line(f"  {answer} is the device at {device.address}")
    if not passed:
        output.line("nothing is open: each found device is named, or none may be a missing one")


_BACK = "<"  # no name begins so


def _asked(may_be: tuple[str, ...], *, back: bool) -> str | None:
    """The name chosen; empty to pass on, None to end, `_BACK` to ask for the one before again."""
    import sys

    from zentrale.jobs.discovery.walking import chosen
    from zentrale.words import clean

    while True:
        keys = "s to skip, b to go back, q to end" if back else "s to skip, q to end"
        print(f"  which is it? its number, {keys}: ", end="", file=sys.stderr, flush=True)
        line = sys.stdin.readline()
        if not line or line.strip().lower() == "q":
            return None
        if line.strip().lower() == "b" and back:
            return _BACK
        answer = chosen(line, may_be)
        if answer is not None:
            return answer
        numbers = f"1 to {len(may_be)}" if len(may_be) > 1 else "1"
        print(f"  {clean(line.strip(), 40)!r} is none of them: type {numbers}, a name, or {keys}", file=sys.stderr)

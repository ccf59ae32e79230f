"""Options that several commands share, and what they stand for: the site, its plan, its vault, its logbook."""

from __future__ import annotations

import argparse

from zentrale.cli.asking import PASSPHRASE_VARIABLE

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Callable


def completes(action: argparse.Action, words: Callable[..., list[str]]) -> None:
    """What the shell offers for it after the Tab key."""
    action.completer = words  # type: ignore[attr-defined]  # read by argcomplete


def complete_cameras(parsed_args: argparse.Namespace, **_: object) -> list[str]:
    """Cameras and groups of the plan here; none where it cannot be read."""
    from zentrale.cli.work import plan_of
    from zentrale.errors import ZentraleError
    from zentrale.site.folder import find_site

    try:
        plan = plan_of(find_site(parsed_args.site))
    except ZentraleError:
        return []
    return [*(c.name for c in plan.cameras), *(g.name for g in plan.groups), *(r.name for r in plan.recorders)]


def complete_codes(**_: object) -> list[str]:
    """Finding codes and keys of the plan files."""
    from zentrale.cli.pages import plan_keys
    from zentrale.findings import CATALOGUE

    return [*CATALOGUE, *(key.name for key in plan_keys())]


def complete_topics(**_: object) -> list[str]:
    from zentrale.cli.pages import topics

    return list(topics())


def add_common(parser: argparse.ArgumentParser) -> None:
    common = parser.add_argument_group("common options")
    common.add_argument("--no-color", action="store_true", help="no colour (NO_COLOR does the same)")
    common.add_argument("--quiet", action="store_true", help="only the result; no progress, no hints")
    common.add_argument("-v", "--verbose", action="store_true", help="log what is asked and answered, to stderr")


class _Once(argparse.Action):
    """An option that means one thing: given again, it is an error rather than the last one silently."""

    def __call__(
        self, parser: argparse.ArgumentParser, namespace: argparse.Namespace, values: object, option: str | None = None
    ) -> None:
        if getattr(namespace, self.dest) is not None:
            parser.error(f"{option}: given twice; this command works on one site: run it for each of them")
        setattr(namespace, self.dest, values)


def add_site(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--site", metavar="DIR", action=_Once, help="site folder (default: this folder or the nearest one above)"
    )


def add_sites(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--site", metavar="DIR", action="append",
        help="site folder; may be given more than once (default: this folder or the nearest one above)",
    )  # fmt: skip


def add_json(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="one JSON document on stdout")


def add_details(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--details", action="store_true", help="also the tables, what is well, and where each limit stands"
    )


def add_only(parser: argparse.ArgumentParser, *, names: bool = True) -> None:
    """`--only`, and the same as names behind the command."""
    only = parser.add_argument(
        "--only", metavar="WHICH", action="append", default=[], help="camera names, groups or patterns, with commas"
    )
    completes(only, complete_cameras)
    if names:
        named = parser.add_argument("names", metavar="NAME", nargs="*", help="the same as --only NAME")
        completes(named, complete_cameras)


def add_dry_run(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--dry-run", action="store_true", help="say what would change, and change nothing")


def parallel(text: str) -> int:
    """A number of devices at once. Raises ArgumentTypeError."""
    if not text.isdigit() or not 1 <= int(text) <= 64:
        raise argparse.ArgumentTypeError(f"{text!r}: expected a number from 1 to 64")
    return int(text)


def add_passphrase(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--passphrase-fd",
        type=int,
        metavar="N",
        help=f"read the vault's passphrase from file descriptor N (default: ${PASSPHRASE_VARIABLE}, else ask)",
    )


def add_entering(parser: argparse.ArgumentParser) -> None:
    group = parser.add_argument_group("getting into devices")
    group.add_argument(
        "--tries",
        type=int,
        metavar="N",
        help="wrong passwords a device may see within a window (default: 2; more may lock it)",
    )
    group.add_argument(
        "--patient", action="store_true", help="wait until devices may be asked again, and try every password"
    )
    group.add_argument(
        "--same-device", metavar="NAME", action="append", default=[],
        help="this device is the same, though it tells another MAC address or serial number than before",
    )  # fmt: skip
    group.add_argument(
        "--trust-new-certificate", metavar="NAME", action="append", default=[],
        help="accept that this device shows another certificate than before",
    )  # fmt: skip


def add_no_wait(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--no-wait", action="store_true", help="stop where another run is changing this site")

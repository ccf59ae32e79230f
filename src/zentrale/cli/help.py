"""`zentrale help`: the documentation, offline."""

from __future__ import annotations

import argparse

from zentrale.cli import options

DESCRIPTION = "Shows a page of the documentation, all of which is inside the program. Without a topic, lists them all."
EXAMPLE = "zentrale help plan-files"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    topic = parser.add_argument("topic", metavar="TOPIC", nargs="?", help="a page, or a command")
    options.completes(topic, options.complete_topics)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli import pages
    from zentrale.cli.main import COMMANDS, build_parser
    from zentrale.cli.output import Output
    from zentrale.errors import InputError
    from zentrale.words import meant

    output = Output(args)
    topics = pages.topics()
    if args.topic is None:
        output.line("Pages: `zentrale help TOPIC`", "bold")
        output.table(["topic", "what it says"], topics.items())
        output.line()
        output.line(
            "Also `zentrale help COMMAND`, `zentrale explain CODE` for a finding, `zentrale explain KEY` for a plan key."
        )
    elif args.topic in topics:
        pages.show(output, pages.page(args.topic))
    elif args.topic in COMMANDS:
        build_parser(args.topic).parse_args([args.topic, "--help"])
    else:
        known = [*topics, *COMMANDS]
        raise InputError(
            f"help {args.topic}: no such topic{meant(args.topic, known)}", f"expected any of: {', '.join(topics)}"
        )
    return 0

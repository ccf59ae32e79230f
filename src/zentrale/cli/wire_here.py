"""What the `wire` commands need of the site that they are run in, where there is one."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.work import Work
    from zentrale.site.model import Plan


def plan_here(work: Work) -> Plan | None:
    """That of the site here; a capture may be read without any."""
    folder = work.folder_if_any
    return work.plan if folder is not None and folder.site_file.exists() else None


def journal(work: Work, scope: dict[str, object]) -> None:
    """That a file was read or made, and which: it may hold what people said."""
    import socket

    with work.logging() as logbook, logbook.running(f"wire {work.args.action}", socket.gethostname(), scope):
        pass

"""The written files as they stand, edited or not, and where they differ from what the plan would have written now."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from pathlib import Path

from zentrale.jobs.network.laptop import remembered
from zentrale.jobs.network.writing import FOLDER, INDEX, content_of, read_index, same_but_for_the_time
from zentrale.output.network.registry import network_files
from zentrale.planning.network import NetworkPlan
from zentrale.site.folder import SiteFolder, write_atomically

AS_WRITTEN, EDITED, OLDER, WRITTEN_NOW, NO_MORE = (
    "as written", "edited", "older than the plan", "written now", "no longer of the plan",
)  # fmt: skip


@dataclass(frozen=True)
class StandingFile:
    """`planned` is what the plan would have written now; empty for what the plan has no more."""

    path: str
    what: str
    state: str
    content: bytes
    planned: bytes

    @property
    def text(self) -> str:
        return self.content.decode("utf-8-sig", "replace")


class Standing:
    """The files in `folder`/network, to be loaded from there."""

    def __init__(self, folder: Path, files: Iterable[StandingFile]) -> None:
        self.folder = folder
        self.files = {file.path: file for file in files}

    def copied(self, folder: Path) -> Standing:
        """The same in a folder of its own: whoever writes meanwhile changes nothing of it. Raises StorageError."""
        for file in self.files.values():
            if file.state != NO_MORE:
                write_atomically(folder / FOLDER / file.path, file.content)
        return Standing(folder, self.files.values())

    def path(self, name: str) -> Path:
        return self.folder / FOLDER / name

    def change(self, name: str, edit: Callable[[str], str]) -> None:
        """As somebody would who has the file open. Only for a copy."""
        file = self.files[name]
        content = edit(file.text).encode()
        self.files[name] = replace(file, content=content)
        write_atomically(self.path(name), content)

    def by_state(self) -> dict[str, list[str]]:
        """Paths of those that are not as the plan has them, or have been written just now."""
        found: dict[str, list[str]] = {}
        for file in self.files.values():
            if file.state != AS_WRITTEN:
                found.setdefault(file.state, []).append(file.path)
        return found


def as_planned(net: NetworkPlan, folder: Path) -> Standing:
    """A fresh set, in a folder of its own. Raises StorageError."""
    return Standing(
        folder, [StandingFile(f.path, f.what, AS_WRITTEN, f.content, f.content) for f in network_files(net)]
    ).copied(folder)


def as_it_stands(site: SiteFolder, net: NetworkPlan) -> Standing:
    """What stands in output/network/; what is missing there is written first. Raises InputError, StorageError."""
    at = site.output / FOLDER
    before, files = read_index(at), []
    for made in network_files(net, remembered(net, before.kinds)):
        there = content_of(at / made.path)
        if there is None:
            write_atomically(at / made.path, made.content)
            files.append(StandingFile(made.path, made.what, WRITTEN_NOW, made.content, made.content))
            continue
        same = same_but_for_the_time(there, made.content)
        state = AS_WRITTEN if same else OLDER if before.as_written(made.path, there) else EDITED
        files.append(StandingFile(made.path, made.what, state, there, made.content))
    written = {f.path: (f.what, f.content) for f in files if f.state == WRITTEN_NOW}
    for path, what in before.kinds.items():
        there = content_of(at / path) if path not in {f.path for f in files} else None
        if there is not None:
            files.append(StandingFile(path, what, NO_MORE, there, b""))
    if written:
        write_atomically(at / INDEX, before.text(written, with_before=True))
    return Standing(site.output, files)

"""Films that were saved: what each is, its digest in the evidence, and whether a file is still what was saved."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from zentrale import quantities
from zentrale.errors import InputError, StorageError
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.logbook.evidence import Notes, note, observations
from zentrale.logbook.store import Logbook
from zentrale.site.folder import write_atomically
from zentrale.site.model import Plan

KIND = "clip"  # of its observations


@dataclass(frozen=True)
class Clip:
    """One file. begin, end: of the first and the last picture in it, by the recorder's clock; lost: packets that were missing in
    what the recorder played
    """

    camera: str
    recorder: str
    channel: int
    asked: tuple[datetime, datetime]
    begin: datetime
    end: datetime
    file: str
    frames: int
    lost: int
    sha256: str
    codec: str
    sound: str = ""

    def document(self) -> dict[str, object]:
        return {
            "camera": self.camera, "recorder": self.recorder, "channel": self.channel, "file": self.file,
            "from": _precise(self.begin), "to": _precise(self.end), "frames": self.frames, "lost": self.lost,
            "sha256": self.sha256, "codec": self.codec, "sound": self.sound or None,
            "asked_from": _precise(self.asked[0]), "asked_to": _precise(self.asked[1]),
        }  # fmt: skip


def _precise(at: datetime) -> str:
    return at.astimezone(UTC).isoformat(timespec="milliseconds")


Keep = Callable[[Clip], None]


@dataclass
class Saved:
    """Of one channel: its files, and what is to be told: why there is none, or less than was asked for."""

    camera: str
    recorder: str
    clips: list[Clip] = field(default_factory=list)
    says: list[str] = field(default_factory=list)
    silent: str = ""  # why sound that is stored is in no file
    notes: list[str] = field(default_factory=list)
    stopped: bool = False  # this machine's disk takes no more


def keep_with(keyring: Keyring, run: int, plan: Plan, reason: str, vantage: str, fails: Callable[[str], None]) -> Keep:
    """Each film's digest into the logbook's evidence, and beside it what it is, as JSON; `fails` where that cannot be written."""

    def keep(clip: Clip) -> None:
        notes = Notes()
        notes.observe(KIND, ref_of(plan.camera(clip.camera)), "ONVIF replay", {**clip.document(), "reason": reason})
        note(keyring.logbook, run, notes)
        path = Path(clip.file).with_suffix(".json")
        content = {**clip.document(), "file": Path(clip.file).name, "reason": reason, "saved_from": vantage,
                   "saved_at": quantities.timestamp(quantities.now())}  # fmt: skip
        try:
            write_atomically(path, json.dumps(content, indent=2).encode(), 0o600)
        except StorageError as error:
            fails(error.what)

    return keep


@dataclass(frozen=True)
class Checked:
    """`same` None where neither a description beside the file nor the logbook knows it."""

    file: str
    sha256: str
    same: bool | None
    says: tuple[str, ...]
    clip: Mapping[str, object] | None = None


def check(path: Path, logbook: Logbook | None) -> Checked:
    """Whether a file is as it was saved: by the digest beside it, and by the one in the logbook. Raises InputError."""
    if path.suffix == ".json":
        raise InputError(f"{path}: is the description of a film", f"give the film itself, {path.stem}.mp4")
    try:
        with path.open("rb") as file:
            digest = hashlib.file_digest(file, "sha256").hexdigest()
    except OSError as error:
        raise InputError(
            f"{path}: cannot be read: {error.strerror}", "expected a file that `recordings save` wrote"
        ) from None
    says, verdicts = [], []
    clip: Mapping[str, object] | None = None
    beside = path.with_suffix(".json")
    if beside.exists():
        clip = _described(beside)
        same = clip.get("sha256") == digest
        verdicts.append(same)
        says.append(f"{beside.name} {'has the same digest' if same else 'has another digest'}")
    if logbook is not None:
        known = [o.content for o in observations(logbook, KIND)]
        by_name = [c for c in known if Path(str(c.get("file"))).name == path.name]
        if any(c.get("sha256") == digest for c in known):
            verdicts.append(True)
            says.append("the logbook has the same digest")
            clip = clip or next(c for c in known if c.get("sha256") == digest)
        elif by_name:
            verdicts.append(False)
            says.append("the logbook has another digest for a file of this name")
        else:
            says.append("the logbook does not know it")
    return Checked(str(path), digest, all(verdicts) if verdicts else None, tuple(says), clip)


def _described(path: Path) -> dict[str, object]:
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        raise InputError(
            f"{path}: cannot be read as JSON", "expected what `recordings save` wrote beside the film"
        ) from None
    return content if isinstance(content, dict) else {}

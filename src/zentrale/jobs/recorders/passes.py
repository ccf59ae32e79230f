"""With which account a recorder watches a camera: by fingerprints, since no recorder tells the password it holds."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.logbook.store import DONE, Logbook
from zentrale.protocols.http_auth import Credentials
from zentrale.site.model import Camera
from zentrale.subjects import Ref

_NONE: Mapping[str, Sequence[Credentials]] = {}


class Passes:
    """`current` is what the recorder is to show the camera; `others` are those it may have been given before.

    given: user and fingerprint of what an earlier run gave it, as the journal has it; empty where none did
    every: what recorders watch each camera with, and what opens it, by the camera's name; camera: which one this is
    """

    def __init__(
        self,
        fingerprint: Callable[[Credentials], str],
        current: Credentials | None,
        others: Sequence[Credentials] = (),
        given: tuple[str, str] = ("", ""),
        every: Mapping[str, Sequence[Credentials]] = _NONE,
        camera: str = "",
    ) -> None:
        self._fingerprint = fingerprint
        self.current = current
        self._others = others
        self.given = given
        self._every = every
        self._camera = camera

    @property
    def wanted(self) -> tuple[str, str]:
        return ("", "") if self.current is None else (self.current.user, self._fingerprint(self.current))

    def of(self, key: str, camera: str = "") -> Credentials | None:
        """The credentials with this fingerprint; of an entry that names none, those that open the camera. `camera`: another one,
        whose stream goes back onto this channel.
        """
        if not key and camera not in ("", self._camera):
            return next(iter(self._every.get(camera, ())), None)
        if not key:
            return next(iter(self._others), self.current)
        known = [c for c in (self.current, *self._others) if c is not None]
        known += [c for some in self._every.values() for c in some]
        return next((c for c in known if self._fingerprint(c) == key), None)


def watching_account(keyring: Keyring, camera: Camera) -> Credentials | None:
    """What recorders watch this camera with, as the vault has it; None where the plan wants no account for that."""
    assert keyring.plan is not None and keyring.vault is not None
    user = keyring.plan.policy.recorder_account
    return keyring.vault.account(keyring.entry_of(camera.name), user) if user else None


def passes(keyring: Keyring, camera: Camera, opens: Credentials | None) -> Passes:
    """`opens` is what opens the camera itself: used where the plan wants no account for recorders, or it is none of ours."""
    contents = keyring.contents
    entry = keyring.entry_of(camera.name)
    former = [f.entry.credentials for f in contents.former if f.name == entry]
    current = watching_account(keyring, camera) or opens
    others = [c for c in (opens, *reversed(former)) if c is not None]
    every: dict[str, list[Credentials]] = {}
    for (name, user), held in contents.accounts.items():
        if keyring.plan is not None and user == keyring.plan.policy.recorder_account:
            every.setdefault(name, []).append(held)
    for name, device in contents.devices.items():
        every.setdefault(name, []).append(device.credentials)
    given = given_to(keyring.logbook, ref_of(camera))
    return Passes(contents.fingerprint, current, others, given, every, camera.name)


def given_to(logbook: Logbook, camera: Ref) -> tuple[str, str]:
    """User and fingerprint that the camera's channel was given last."""
    for change in reversed(logbook.changes(of=camera, step="channel")):
        if change.step == "channel" and change.state == DONE and change.after_state:
            return str(change.after_state.get("user", "")), str(change.after_state.get("key", ""))
    return "", ""

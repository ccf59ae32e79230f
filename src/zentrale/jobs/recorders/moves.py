"""Cameras that change channels of one recorder: worked out for all of them at once, journaled, and gone on with after a stop.

Two rows exchange their channels, three rotate, a channel becomes free. The streams change places, what was recorded stays with
its recording: no standard service moves that. A camera is known on a channel by the address that this program gave it, else by
its name. Whatever a stop leaves is a state from which the same is worked out again: a camera on two channels has its own already,
and one that is on none has its address in the journal.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from zentrale.errors import DeviceError
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.step_form import Outcome, StepResult
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.channel_step import Channel, ChannelState
from zentrale.jobs.recorders.onvif_lists import Held, Lists, RecorderChannels
from zentrale.jobs.recorders.passes import Passes, passes
from zentrale.logbook.store import INTERRUPTED, Change
from zentrale.protocols.onvif import recording_jobs
from zentrale.site.model import Camera, Recorder

FORMER = "former channel"  # the step that frees a channel which its camera has left


@dataclass(frozen=True)
class Permutation:
    """What has to change: the stream that each channel gets, by number, and the channels that become free, by who was on them."""

    given: Mapping[int, tuple[Camera, str]]
    freed: Mapping[int, Camera]


def permutation(
    cameras: Sequence[Camera],
    on: Mapping[int, str],
    urls: Mapping[int, str],
    blocked: Mapping[int, str],
    stopped: Mapping[str, str],
    left: Mapping[str, frozenset[int]],
) -> Permutation:
    """What brings the cameras of one recorder onto their planned channels.

    on:      the camera that is on each channel, of those planned at this recorder; urls: its stream there
    blocked: channels of others, with what they take in
    stopped: streams of cameras on whose channel a run was stopped, by name: they may be on none, or theirs may be half made
    left:    channels that runs of ours once gave to each camera: where it has its own now, these are its leavings
    """
    by_name = {c.name: c for c in cameras}
    places: dict[str, list[int]] = {}
    for number, name in on.items():
        places.setdefault(name, []).append(number)
    moving = {
        name: urls[numbers[0]] for name, numbers in places.items() if by_name[name].channel not in numbers
    } | {
        name: url for name, url in stopped.items()
        if name in by_name and by_name[name].channel in places.get(name, [by_name[name].channel])
    }  # fmt: skip
    while True:
        stuck = [name for name in moving if not _may_go(by_name[name].channel, on, places, moving, by_name, blocked)]
        if not stuck:
            break
        for name in stuck:
            del moving[name]
    given = {by_name[name].channel: (by_name[name], url) for name, url in moving.items()}
    freed = {n: by_name[name] for name in moving for n in places.get(name, ()) if n not in given}
    for name, numbers in places.items():
        if name not in moving and by_name[name].channel in numbers:
            own = left.get(name, frozenset())
            freed |= {n: by_name[name] for n in numbers if n != by_name[name].channel and n in own and n not in given}
    return Permutation(dict(sorted(given.items())), dict(sorted(freed.items())))


def _may_go(
    number: int,
    on: Mapping[int, str],
    places: Mapping[str, Sequence[int]],
    moving: Mapping[str, str],
    by_name: Mapping[str, Camera],
    blocked: Mapping[int, str],
) -> bool:
    """Whether a channel is free, becomes free, or holds what its camera has left there."""
    holder = on.get(number)
    if holder is None:
        return number not in blocked
    return holder in moving or by_name[holder].channel in places[holder]


@dataclass(frozen=True)
class Move:
    """A channel before and after; what is to be known of it; its entry in the journal, None in a dry run."""

    step: Channel
    now: ChannelState
    wanted: ChannelState
    stays: str
    change: int | None = None


class Mover:
    """Moves the cameras of one recorder; in a dry run it tells how."""

    def __init__(self, keyring: Keyring, run: int, recorder: Recorder, channels: RecorderChannels) -> None:
        assert keyring.plan is not None
        self.keyring = keyring
        self.logbook = keyring.logbook
        self.channels = channels
        self._run = run
        self._cameras = [keyring.numbered(c) for c in keyring.plan.networked if c.recorder == recorder.name]
        self._names = frozenset(c.name for c in self._cameras)

    async def settle(self) -> list[StepResult]:
        """One result for each channel that changes. Raises DeviceError where the recorder does not tell what it holds."""
        lists = await self.channels.lists()
        changes = await asyncio.to_thread(self.logbook.changes)
        found = self._permutation(lists, [c for c in changes if c.step in (Channel.name, FORMER) and c.after_state])
        given = [await self._given(number, camera, url, lists) for number, (camera, url) in found.given.items()]
        freed = [await self._freed(number, camera) for number, camera in found.freed.items()]
        results = [await self._made(move) for move in given]
        good = all(r.outcome in (Outcome.CHANGED, Outcome.WOULD_CHANGE) for r in results)
        return results + [
            await self._made(move, why="" if good else "not freed, since not all came onto theirs") for move in freed
        ]

    def _permutation(self, lists: Lists, changes: Sequence[Change]) -> Permutation:
        own = [c for c in changes if c.step == Channel.name]
        by_url = {str((c.after_state or {}).get("url")): c.ref.name for c in own}
        last = {c.ref.name: c for c in own}
        left: dict[str, frozenset[int]] = {}
        for change in changes:
            number = int((change.after_state or {}).get("number", 0))
            left[change.ref.name] = left.get(change.ref.name, frozenset()) | {number}
        on, urls, blocked = {}, {}, {}
        for number in lists.numbering.recordings:
            held = lists.held(number)
            name = by_url.get(held.url, held.item.name) if held.url else ""
            if name in self._names:
                on[number], urls[number] = name, held.url
            elif is_taken(held):
                blocked[number] = held.url
        stopped = {
            name: str((change.after_state or {})["url"]) for name, change in last.items()
            if change.state == INTERRUPTED and (change.after_state or {}).get("url") and not self._holds(lists, change)
        }  # fmt: skip
        found = permutation(self._cameras, on, urls, blocked, stopped, left)
        by_name = {c.name: c for c in self._cameras}
        half: dict[int, Camera] = {}  # channels in whose freeing a run was stopped
        for change in changes:
            number = int((change.after_state or {}).get("number", 0))
            half.pop(number, None)
            if change.step == FORMER and change.state == INTERRUPTED and change.ref.name in by_name:
                half[number] = by_name[change.ref.name]
        kept = lists.numbering.channels
        half = {n: c for n, c in half.items() if n in kept and n not in on and lists.held(n).item.name != kept[n].name}
        return Permutation(found.given, {n: c for n, c in {**half, **found.freed}.items() if n not in found.given})

    def _holds(self, lists: Lists, change: Change) -> bool:
        """Whether the channel is what a stopped run wanted to make of it."""
        state = change.after_state or {}
        held = lists.held(int(state.get("number", 0)))
        active = held.job is not None and held.job.mode == recording_jobs.ACTIVE
        return active and (held.url, held.item.name) == (state.get("url"), state.get("camera"))

    async def _given(self, number: int, camera: Camera, url: str, lists: Lists) -> Move:
        shown = self._passes(camera)
        step = Channel(self.channels, number, camera.name, camera.shows, url, shown, elsewhere=self._names)
        now = await step.look()
        before = [str(n) for n in lists.numbering.recordings if lists.held(n).url == url and n != number]
        stays = f"what was recorded of {camera.name} until now stays on channel {', '.join(before)}" if before else ""
        return await self._begun(camera, step, now, step.wanted(now), stays)

    def _passes(self, camera: Camera) -> Passes:
        opens = self.keyring.vault.device(self.keyring.entry_of(camera.name)) if self.keyring.vault else None
        return passes(self.keyring, camera, opens)

    async def _freed(self, number: int, camera: Camera) -> Move:
        step = Channel(self.channels, number, camera.name, "", "", self._passes(camera))
        step.name = FORMER
        now = await step.look()
        return await self._begun(camera, step, now, step.freed(), f"what was recorded of {camera.name} stays there")

    async def _begun(self, camera: Camera, step: Channel, now: ChannelState, wanted: ChannelState, stays: str) -> Move:
        """Into the journal. All are there before any is made, so that whoever goes on knows where each was to go."""
        if self.keyring.dry_run:
            return Move(step, now, wanted, stays)
        change = await asyncio.to_thread(
            self.logbook.begin_change, self._run, ref_of(camera), step.name, step.shown(now), step.shown(wanted),
            (step.document(now), step.document(wanted)),
        )  # fmt: skip
        return Move(step, now, wanted, stays, change)

    async def _made(self, move: Move, why: str = "") -> StepResult:
        """`why`: it is left, for this reason."""
        step, wanted = move.step, move.wanted
        name, before, after = f"channel {wanted.number}", step.shown(move.now), step.shown(wanted)
        if move.change is None:
            return StepResult(name, Outcome.WOULD_CHANGE, before, after, note=move.stays, facts=step.facts())
        wrong, document = why, None
        try:
            if not why:
                await step.apply(move.now, wanted)
                kept = await step.read_back(wanted)
                document = step.document(kept)
                wrong = "" if step.holds(kept, wanted) else f"it answered OK, but keeps {step.shown(kept)}"
        except DeviceError as error:
            wrong = str(error)
        except BaseException as error:
            self.logbook.end_change(move.change, f"ended by {type(error).__name__}")
            raise
        await asyncio.to_thread(self.logbook.end_change, move.change, wrong, None, document)
        outcome = Outcome.FAILED if wrong else Outcome.CHANGED
        return StepResult(name, outcome, before, after, wrong, "" if wrong else move.stays, facts=step.facts())


def is_taken(held: Held) -> bool:
    """Whether somebody else's stream goes there, by what the lists tell."""
    return held.job is not None and (held.job.profile or bool(held.url) or held.job.mode == recording_jobs.ACTIVE)

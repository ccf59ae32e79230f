"""The microphone off, where the policy or the camera's group says so: no profile carries sound."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zentrale import quantities
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench

_KINDS = ("AudioEncoder", "AudioSource")  # the encoder needs its source, so it goes first


def steps(bench: Bench) -> list[Audio]:
    camera = bench.camera
    if camera is None or not (bench.plan.policy.audio_off or bench.plan.group(camera).audio == "off"):
        return []
    return [Audio(bench.client)]


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> Audio | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    return Audio(bench.client) if name == Audio.name else None


@dataclass(frozen=True)
class AudioState:
    """`carried`: for each configuration of sound in a profile its kind, its token and the profile's, with blanks between."""

    carried: tuple[str, ...] = ()


class Audio(Step[AudioState]):
    name = "audio"
    place = "audio: microphone"

    def aim(self) -> str:
        return "off"

    async def look(self) -> AudioState:
        found = []
        for profile in await self.client.media.profiles():
            for kind, token in zip(_KINDS, (profile.audio_encoder, profile.audio_source), strict=True):
                if token:
                    found.append(f"{kind} {token} {profile.token}")
        return AudioState(tuple(found))

    def wanted(self, now: AudioState) -> AudioState:
        return AudioState()

    async def apply(self, now: AudioState, wanted: AudioState) -> None:
        media = await self.client.media.service()
        for entry in now.carried:
            if entry not in wanted.carried:
                kind, _, profile = entry.split(" ", 2)
                await media.take_out(profile, kind)
        for entry in reversed(wanted.carried):
            if entry not in now.carried:
                kind, token, profile = entry.split(" ", 2)
                await media.put_in(profile, kind, token)

    def shown(self, state: AudioState) -> str:
        profiles = {entry.split(" ", 2)[-1] for entry in state.carried}
        return f"on in {quantities.count(len(profiles), 'profile')}" if profiles else "off"

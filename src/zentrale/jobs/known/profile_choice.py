"""Which profile is which stream of a camera: by its lens, its names and its sizes, never by the order in a list."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from zentrale import quantities
from zentrale.errors import NotOfferedError
from zentrale.field.device import Device
from zentrale.logbook.store import DONE, Logbook
from zentrale.protocols.onvif import media
from zentrale.protocols.onvif.media import Profile
from zentrale.site.streams import STREAMS
from zentrale.subjects import Ref


class ProfileChoice:
    """Which profile is which stream of a camera: chosen once, since the steps change what it is chosen by.

    known: the encoder's token by stream, as earlier runs have set it
    source: which lens or video input of the device, counted from 1; None: that of the main profile
    """

    def __init__(self, known: Mapping[str, str] | None = None, source: int | None = None) -> None:
        self._tokens = dict(known or {})
        self._source = source

    @classmethod
    def remembered(cls, logbook: Logbook, camera: Ref, source: int | None = None) -> ProfileChoice:
        """As the journal has it."""
        known = {}
        for change in logbook.changes(of=camera, step=" stream"):
            if change.after_state and change.state == DONE:
                known[change.step.removesuffix(" stream")] = str(change.after_state.get("token", ""))
        return cls(known, source)

    def of(self, profiles: Sequence[media.Profile]) -> dict[str, media.Profile]:
        """Raises NotOfferedError where the device has no such lens."""
        profiles = _of_source(profiles, self._source)
        by_token = {p.encoder.token: p for p in reversed(profiles) if p.encoder is not None}
        kept = {stream: by_token[token] for stream, token in self._tokens.items() if token in by_token}
        picked = pick_profiles(_beside(profiles, kept))
        if kept:  # of what is left on the same lens the largest is the first stream that is not known
            left = [stream for stream in STREAMS if stream not in kept]
            picked = dict(zip(left, picked.values(), strict=False))
        chosen = {**picked, **kept}
        self._tokens = {stream: p.encoder.token for stream, p in chosen.items() if p.encoder is not None}
        return chosen

    async def main(self, client: Device) -> Profile:
        """The profile of the main stream. Raises NotOfferedError where it tells no lens in it, DeviceError otherwise."""
        found = self.of(await client.media.profiles()).get("main")
        if found is None or not found.source_configuration:
            raise NotOfferedError("it tells no video source in its main profile")
        return found


def pick_profiles(profiles: Sequence[media.Profile]) -> dict[str, media.Profile]:
    """The main, sub and third profile of the camera: all of one video source (lens), never by their order in the list.

    The source is that of a profile named main, else the first by its token. Within it the profiles are told by their
    names, else the main one is the one with the most pixels, else the first by its token. Two profiles that share one
    encoder are one stream.
    """
    usable = [p for p in profiles if p.encoder is not None]
    if not usable:
        return {}
    source = min(usable, key=lambda p: ("main" not in _called(p), natural(p.source))).source
    own = sorted((p for p in usable if p.source == source), key=lambda p: (-_pixels(p), natural(p.token)))
    main = next((p for p in own if "main" in _called(p)), None) or next(
        (p for p in own if "sub" not in _called(p)), own[0]
    )
    others = [p for p in own if p.encoder and main.encoder and p.encoder.token != main.encoder.token]
    sub = next((p for p in others if "sub" in _called(p)), None) or next(iter(others), None)
    third = next(
        (p for p in others if sub and p.encoder and sub.encoder and p.encoder.token != sub.encoder.token), None
    )
    return {stream: p for stream, p in zip(STREAMS, (main, sub, third), strict=True) if p is not None}


def sources_in_order(profiles: Sequence[media.Profile]) -> list[str]:
    """The tokens of the video sources, as a person counts them: by the names of their configurations where each has one and all
    differ, else by the tokens themselves.
    """
    names: dict[str, set[str]] = {}
    for profile in profiles:
        if profile.source:
            names.setdefault(profile.source, set()).add(profile.source_name)
    called = {source: next(iter(own)) for source, own in names.items() if len(own) == 1}
    by_name = len(called) == len(names) == len(set(called.values())) and all(called.values())
    return sorted(names, key=lambda source: natural(called[source] if by_name else source))


def lens_told(profile: media.Profile) -> str:
    """Which of the device's own lenses and profiles it is, in the device's words."""
    called = f'"{profile.source_name}", ' if profile.source_name else ""
    return f'source {called}{profile.source or "not told"}; profile "{profile.name or profile.token}"'


def _of_source(profiles: Sequence[media.Profile], number: int | None) -> Sequence[media.Profile]:
    """Those of one lens."""
    if number is None:
        return profiles
    sources = sources_in_order(profiles)
    if number > len(sources):
        lenses = quantities.count(len(sources), "video source")
        raise NotOfferedError(f"it tells {lenses} ({', '.join(sources) or 'none'}); source {number} is planned")
    return [p for p in profiles if p.source == sources[number - 1]]


def _beside(profiles: Sequence[media.Profile], kept: Mapping[str, media.Profile]) -> list[media.Profile]:
    """What is left to choose from: the same lens, another encoder."""
    tokens = {p.encoder.token for p in kept.values() if p.encoder}
    sources = {p.source for p in kept.values()}
    return [
        p for p in profiles
        if not kept or (p.source in sources and p.encoder is not None and p.encoder.token not in tokens)
    ]  # fmt: skip


def _called(profile: media.Profile) -> str:
    return f"{profile.name} {profile.token}".lower()


def natural(text: str) -> tuple[tuple[int, int, str], ...]:
    """Texts in the order in which a person counts them, digits as numbers: Lens 2 north before Lens 10."""
    parts = re.findall(r"\d+|\D+", text.lower())
    return tuple((0, int(p[:18]), p) if p.isdecimal() else (1, 0, p) for p in parts)


def _pixels(profile: media.Profile) -> int:
    return profile.encoder.width_px * profile.encoder.height_px if profile.encoder else 0

"""Which recorder types on file could carry a recorder's cameras, and the smallest that does."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.flows import recorded_bps, recorded_streams, shown_pixels_per_s
from zentrale.site.model import Camera, ChannelLimit, Plan, Recorder, RecorderType

_TB = 1e12


@dataclass(frozen=True)
class Fit:
    """One type, and why it does not fit (empty: it does). `licences_missing` are to be bought."""

    type: str
    reasons: tuple[str, ...]
    licences_missing: int

    @property
    def fits(self) -> bool:
        return not self.reasons


def recorder_fits(plan: Plan, recorder: Recorder, cameras: Sequence[Camera], sent: float) -> tuple[Fit, ...]:
    """Every recorder type, smallest first: by channels, then by what it takes in. `sent`: to viewers [bit/s]."""
    types = sorted(plan.recorder_types, key=lambda t: (t.channels, t.ingest_mbps, t.bays))
    return tuple(
        Fit(t.name, tuple(_reasons(plan, t, recorder, cameras, sent)), licences_missing(t, recorder, len(cameras)))
        for t in types
    )


def licences_missing(kind: RecorderType, recorder: Recorder, cameras: int) -> int:
    if kind.licences_included is None:
        return 0
    return max(0, cameras - kind.licences_included - recorder.licences_held)


def _reasons(plan: Plan, kind: RecorderType, recorder: Recorder, cameras: Sequence[Camera], sent: float) -> list[str]:
    reasons = []
    if len(cameras) > kind.channels:
        reasons.append(f"{kind.channels} channels for {len(cameras)} cameras")
    ingest = sum(recorded_bps(plan, c) for c in cameras)
    if ingest > kind.ingest_mbps * 1e6:
        reasons.append(f"takes in {kind.ingest_mbps:g} of {quantities.bitrate(ingest)}")
    if kind.output_mbps is not None and sent > kind.output_mbps * 1e6:
        reasons.append(f"sends {kind.output_mbps:g} of {quantities.bitrate(sent)} to viewers")
    shown = shown_pixels_per_s(plan, recorder)
    if kind.decode_mpixel_s is not None and shown > kind.decode_mpixel_s * 1e6:
        reasons.append(f"decodes {kind.decode_mpixel_s:g} of {shown / 1e6:.3g} Mpixel/s for its screen")
    behind = [c.port for c in cameras if c.behind]
    if max(behind, default=0) > kind.poe_ports:
        reasons.append(f"{kind.poe_ports} ports of its own for {quantities.count(len(set(behind)), 'camera')} at them")
    for codec, names in _unknown_codecs(plan, kind, cameras).items():
        reasons.append(f"does not take {codec} ({quantities.count(len(names), 'camera')})")
    for limit, count in _exceeded(plan, kind, cameras):
        size = quantities.resolution(*limit.resolution)
        reasons.append(f"{limit.channels} channels of {size} or more for {count}")
    drives = recorder.storage.drives if recorder.storage else 0
    if kind.bays and drives > kind.bays:
        reasons.append(f"{kind.bays} bays for {drives} drives")
    return reasons


def _exceeded(plan: Plan, kind: RecorderType, cameras: Sequence[Camera]) -> list[tuple[ChannelLimit, int]]:
    """The resolution limits that are exceeded, each with the number of cameras that count."""

    def pixels(resolution: tuple[int, int]) -> int:
        return resolution[0] * resolution[1]

    exceeded = []
    for limit in kind.channel_limits:
        count = sum(pixels(plan.group(c).main.resolution) >= pixels(limit.resolution) for c in cameras)
        if count > limit.channels:
            exceeded.append((limit, count))
    return exceeded


def _unknown_codecs(plan: Plan, kind: RecorderType, cameras: Sequence[Camera]) -> dict[str, list[str]]:
    """The codecs that it is to record and does not take, each with its cameras."""
    found: dict[str, list[str]] = {}
    for camera in cameras:
        for codec in dict.fromkeys(s.codec for s in recorded_streams(plan, camera).values()):
            if kind.codecs and codec not in kind.codecs:
                found.setdefault(codec, []).append(camera.name)
    return found


def fit_findings(plan: Plan, recorder: Recorder, cameras: Sequence[Camera]) -> list[Finding]:
    """What the planned type lacks beyond channels and ingest, which the traffic plan tells."""
    kind = plan.recorder_type(recorder)
    subject, source = f"recorder {recorder.name}", f"types.toml recorder type {kind.name}"
    findings = []
    for limit, count in _exceeded(plan, kind, cameras):
        size = quantities.resolution(*limit.resolution)
        text = f"{count} cameras of {size} or more"
        findings.append(finding("CHN-2", subject, text, f"{limit.channels} channels of that size", source))
    for codec, names in _unknown_codecs(plan, kind, cameras).items():
        measured = f"{codec} of {quantities.count(len(names), 'camera')}: {quantities.listed(names, 14)}"
        findings.append(finding("TYP-2", subject, measured, " or ".join(kind.codecs), source))
    shown = shown_pixels_per_s(plan, recorder)
    if kind.decode_mpixel_s is not None and shown > kind.decode_mpixel_s * 1e6:
        pictures = f"{quantities.count(recorder.own_panels, 'picture')} of the {recorder.own_stream} streams"
        measured = f"{shown / 1e6:.3g} Mpixel/s, {pictures}"
        findings.append(finding("TRF-9", subject, measured, f"{kind.decode_mpixel_s:g} Mpixel/s decoded", source))
    if recorder.storage is None and cameras:
        measured = f"no drives are planned for {quantities.count(len(cameras), 'camera')}"
        findings.append(finding("STO-5", subject, measured, "drives", f"site.toml recorder {recorder.name} storage"))
    missing = licences_missing(kind, recorder, len(cameras))
    if missing:
        held = (kind.licences_included or 0) + recorder.licences_held
        findings.append(finding("CHN-3", subject, f"{len(cameras)} cameras, {missing} licences missing",
                                f"{held} licences", f"{source}; site.toml licences_held"))  # fmt: skip
    drives = recorder.storage.drives if recorder.storage else 0
    if kind.bays and drives > kind.bays:
        findings.append(finding("STO-3", subject, f"{drives} drives", f"{kind.bays} bays", source))
    return findings

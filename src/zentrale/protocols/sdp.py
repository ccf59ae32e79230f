"""Session descriptions (RFC 8866) as RTSP servers send them (RFC 2326 appendix C)."""

from __future__ import annotations

import base64
import binascii
from dataclasses import dataclass, field

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.addresses import is_multicast
from zentrale.words import clean

MAX_BYTES = 64 * 1024
MAX_MEDIA = 32
_STATIC_CODECS = {26: ("JPEG", 90_000), 0: ("PCMU", 8_000), 8: ("PCMA", 8_000)}  # RFC 3551 tables 4 and 5
_NAMES = {"HEVC": "H265"}
_PROFILES = ("RTP/AVP", "RTP/AVPF", "RTP/SAVP", "RTP/SAVPF")


@dataclass
class Media:
    """One media section. `codec` is the encoding name in capitals, `clock_hz` its RTP clock, `group` the multicast group that
    it is sent to (empty: none), `profile` that of RTP: with feedback RTP/AVPF (RFC 4585), encrypted RTP/SAVP (RFC 3711);
    `channels` those of sound.
    """

    kind: str
    port: int = 0
    payload_type: int = -1
    codec: str = ""
    clock_hz: int = 90_000
    parameters: dict[str, str] = field(default_factory=dict)
    control: str = ""
    framerate_fps: float | None = None
    group: str = ""
    profile: str = "RTP/AVP"
    channels: int = 1

    @property
    def is_encrypted(self) -> bool:
        return self.profile.startswith("RTP/SAVP")

    def parameter_sets(self) -> list[bytes]:
        """The NAL units given out of band: RFC 6184 clause 8.1, RFC 7798 clause 7.1. Bad ones are left out."""
        sets = []
        for name in ("sprop-parameter-sets", "sprop-vps", "sprop-sps", "sprop-pps"):
            for text in self.parameters.get(name, "").split(","):
                try:
                    unit = base64.b64decode(text, validate=True)
                except (binascii.Error, ValueError):
                    continue
                if unit:
                    sets.append(unit)
        return sets


@dataclass
class SessionDescription:
    name: str = ""
    control: str = ""
    media: list[Media] = field(default_factory=list)

    @classmethod
    def parse(cls, data: bytes) -> SessionDescription:
        """Lenient in what devices get wrong, strict in size. Raises RemoteProtocolError without any media."""
        if len(data) > MAX_BYTES:
            raise RemoteProtocolError(f"session description of more than {MAX_BYTES} bytes")
        session, group = cls(), ""
        for line in data.decode("utf-8", "replace").splitlines():
            kind, equals, value = line.strip().partition("=")
            if not equals or len(kind) != 1:
                continue
            media = session.media[-1] if session.media else None
            if kind == "s":
                session.name = clean(value, 200)
            elif kind == "m":
                if len(session.media) >= MAX_MEDIA:
                    raise RemoteProtocolError(f"session description with more than {MAX_MEDIA} media")
                session.media.append(_parse_media(value))
                session.media[-1].group = group
            elif kind == "c":
                group = _group(value) if media is None else group
                if media is not None:
                    media.group = _group(value)
            elif kind == "a" and media is None:
                name, _, text = value.partition(":")
                if name == "control":
                    session.control = text.strip()
            elif kind == "a" and media is not None:
                _parse_attribute(media, value)
        if not session.media:
            raise RemoteProtocolError("session description without any media")
        return session

    def video(self) -> Media | None:
        """The first video section; None where there is none."""
        return next((m for m in self.media if m.kind == "video"), None)

    def sound(self) -> Media | None:
        """The first audio section that is not refused."""
        return next((m for m in self.media if m.kind == "audio" and m.codec), None)

    def serialize(self, address: str) -> bytes:
        lines = ["v=0", f"o=- 1 1 IN IP4 {address}", f"s={self.name or '-'}", "c=IN IP4 0.0.0.0", "t=0 0"]
        if self.control:
            lines.append(f"a=control:{self.control}")
        for media in self.media:
            lines.append(f"m={media.kind} {media.port} {media.profile} {media.payload_type}")
            lines.append(f"a=rtpmap:{media.payload_type} {media.codec}/{media.clock_hz}")
            if media.parameters:
                text = ";".join(f"{name}={value}" for name, value in media.parameters.items())
                lines.append(f"a=fmtp:{media.payload_type} {text}")
            if media.framerate_fps:
                lines.append(f"a=framerate:{media.framerate_fps:g}")
            if media.control:
                lines.append(f"a=control:{media.control}")
        return "\r\n".join([*lines, ""]).encode()


def _group(connection: str) -> str:
    """The multicast group of a line such as `IN IP4 239.192.0.1/16` (RFC 8866 clause 5.7); empty where it is none."""
    address = connection.split()[-1].partition("/")[0] if connection.split() else ""
    return address if is_multicast(address) else ""


def _number(text: str, default: int) -> int:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else default


def _parse_media(value: str) -> Media:
    parts = value.split()
    media = Media(kind=clean(parts[0].lower(), 40) if parts else "")
    if len(parts) >= 4:
        media.port = _number(parts[1].partition("/")[0], 0)
        media.payload_type = _number(parts[3], -1)
        media.profile = parts[2] if parts[2] in _PROFILES else media.profile
        media.codec, media.clock_hz = _STATIC_CODECS.get(media.payload_type, ("", 90_000))
    return media


def _parse_attribute(media: Media, value: str) -> None:
    name, _, text = value.partition(":")
    if name == "control":
        media.control = text.strip()
    elif name == "framerate":
        try:
            rate = float(text)
        except ValueError:
            return
        media.framerate_fps = rate if 0 < rate < 1000 else None
    elif name in ("rtpmap", "fmtp"):
        number, _, rest = text.partition(" ")
        if _number(number, -2) != media.payload_type:
            return
        if name == "rtpmap":
            codec, _, clock = rest.strip().partition("/")
            codec = clean(codec.upper(), 40)
            media.codec = _NAMES.get(codec, codec)
            hertz, _, channels = clock.partition("/")
            media.clock_hz = _number(hertz, 90_000) or 90_000
            media.channels = _number(channels, 1) or 1
        else:
            for item in rest.split(";"):
                key, _, setting = item.strip().partition("=")
                if key:
                    media.parameters[key.lower()] = setting

"""The RTSP side of a stand-in recorder: what is stored is played from a moment on, as fast as it is taken."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import secrets
from itertools import islice

from zentrale.protocols import h264
from zentrale.protocols.onvif import replay
from zentrale.protocols.onvif.replay import Stamp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.rtsp import Headers, Request, Response
from zentrale.protocols.sdp import Media, SessionDescription
from zentrale.simulation.recorder import SimulatedRecorder
from zentrale.simulation.recorder_archive import CLOCK_HZ, SOUND_HZ, Archive, Picture, drawn_second, sound_beside
from zentrale.simulation.rtsp_server import PAYLOAD_TYPE, Connection, Send

_AHEAD = 64  # pictures made ready at once, apart from the loop that serves the others
_APART_S = 2.0
_SOUND_TYPES = {"PCMU": 0, "PCMA": 8}  # RFC 3551 table 4


class ReplayConnection(Connection):
    """`archive` is that of the recording whose address was described."""

    device: SimulatedRecorder
    archive: Archive | None = None
    span: tuple[float, float | None] = (0.0, None)
    key_pictures = False
    send_sound: Send | None = None

    def _find(self, uri: str) -> Archive | None:
        token = uri.partition("/replay/")[2].partition("/")[0]
        return self.device.stored.archives().get(token)

    async def _describe(self, request: Request) -> Response:
        archive = self._find(request.uri)
        if archive is None or not self.device.config.replay:
            return Response(404)
        sets = self._parameter_sets(archive)
        parameters = {
            "packetization-mode": "1", "profile-level-id": sets[0][1:4].hex(),
            "sprop-parameter-sets": ",".join(base64.b64encode(s).decode() for s in sets),
        }  # fmt: skip
        media = Media("video", payload_type=PAYLOAD_TYPE, codec="H264", parameters=parameters, control="video")
        media_of = [media]
        if sound := self._sound_of(archive):
            number = _SOUND_TYPES[sound]
            media_of.append(Media("audio", payload_type=number, codec=sound, clock_hz=SOUND_HZ, control="audio"))
        body = SessionDescription("stored", "*", media_of).serialize(self.device.config.address)
        base = request.uri.rstrip("/") + "/"
        return Response(200, Headers([("Content-Base", base), ("Content-Type", "application/sdp")]), body)

    def _sound_of(self, archive: Archive) -> str:
        return archive.seed.sound if archive.seed is not None else ""

    async def _setup(self, request: Request) -> Response:
        """Of the picture, or of the sound."""
        if not request.uri.rstrip("/").endswith("/audio"):
            return await super()._setup(request)
        picture, self.send = self.send, None
        response = await super()._setup(request)
        self.send, self.send_sound = picture, self.send
        return response

    def _parameter_sets(self, archive: Archive) -> list[bytes]:
        if archive.ring.parameter_sets:
            return archive.ring.parameter_sets
        wanted = (h264.NAL_SPS, h264.NAL_PPS)
        return [u for u in drawn_second(archive.name, 0)[0] if u[0] & 0x1F in wanted]

    async def _ready(self, request: Request) -> bool:
        self.archive = self._find(request.uri)
        return self.archive is not None

    def _play_answer(self, request: Request) -> Response:
        config = self.device.config
        start, end = replay.parse_range(request.headers.get("Range"))
        assert self.archive is not None
        spans = self.archive.spans()
        if start is None or not spans:
            return Response(457)
        start_s = start.timestamp()
        if config.replay_ignores_range:
            start_s = spans[0][0]
        end_s = None if end is None else end.timestamp()
        if start_s >= spans[-1][1]:
            return Response(457)
        self.span = start_s, end_s
        self.key_pictures = request.headers.get("Frames").startswith("intra")
        return Response(200, Headers([("Session", self.session), ("Range", request.headers.get("Range"))]))

    async def _stream(self, send: Send) -> None:
        assert self.archive is not None
        config = self.device.config
        ssrc, sequence = secrets.randbits(32), secrets.randbits(16)
        pictures = self.archive.pictures(*self.span)
        before: float | None = None
        sound = self._sound_of(self.archive) if self.send_sound is not None and not self.key_pictures else ""
        sound_ssrc, sound_sequence = secrets.randbits(32), secrets.randbits(16)
        with contextlib.suppress(ConnectionError):
            number = 0
            while some := await asyncio.to_thread(lambda: list(islice(pictures, _AHEAD))):
                for picture in some:
                    if self.key_pictures and not picture.key:
                        continue
                    number += 1
                    if config.replay_ends_after and number > config.replay_ends_after:
                        self.writer.close()  # fault: in the middle of it
                        return
                    if config.replay_skips and number % config.replay_skips == 0:
                        sequence = (sequence + len(picture.payloads)) & 0xFFFF
                        continue  # fault: a picture is left out, and its packets with it
                    apart = before is None or picture.at_s - before > _APART_S
                    before = picture.at_s
                    await send(_packets(picture, ssrc, sequence, apart=apart), False)
                    sequence = (sequence + len(picture.payloads)) & 0xFFFF
                    if sound and self.send_sound is not None and picture.seeded:
                        pieces = sound_beside(picture, sound)
                        await self.send_sound(_sound_packets(pieces, sound, sound_ssrc, sound_sequence), False)
                        sound_sequence = (sound_sequence + len(pieces)) & 0xFFFF
                    await self.writer.drain()
            last = Stamp(before or self.span[0], ends=True, last=True)
            end = RtpPacket(PAYLOAD_TYPE, sequence, 0, ssrc, b"", extension=replay.serialize_stamp(last))
            await send([end.serialize()], False)
            await self.writer.drain()


def _sound_packets(pieces: list[tuple[float, bytes]], codec: str, ssrc: int, sequence: int) -> list[bytes]:
    packets = []
    for number, (at_s, payload) in enumerate(pieces):
        timestamp = round(at_s * SOUND_HZ) & 0xFFFFFFFF
        extension = replay.serialize_stamp(Stamp(at_s, key=True))
        packet = RtpPacket(
            _SOUND_TYPES[codec], (sequence + number) & 0xFFFF, timestamp, ssrc, payload, extension=extension
        )
        packets.append(packet.serialize())
    return packets


def _packets(picture: Picture, ssrc: int, sequence: int, *, apart: bool) -> list[bytes]:
    timestamp = int(picture.at_s * CLOCK_HZ) & 0xFFFFFFFF
    packets = []
    for number, (payload, marker) in enumerate(picture.payloads):
        stamp = Stamp(picture.at_s, key=picture.key and number == 0, apart=apart and number == 0)
        packet = RtpPacket(
            PAYLOAD_TYPE, (sequence + number) & 0xFFFF, timestamp, ssrc, payload, marker, replay.serialize_stamp(stamp)
        )
        packets.append(packet.serialize())
    return packets

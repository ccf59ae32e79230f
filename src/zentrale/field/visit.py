"""How a stream is asked for."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Protocol

from zentrale.field.rules import Rules
from zentrale.protocols.doors import Purpose
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.rtsp_client import Transport
from zentrale.protocols.sdp import Media

ANSWER_S = 12.0  # a busy camera may take 6 s for one answer


class Heard(Protocol):
    """Is told what a stream is, and then its packets."""

    def begin(self, media: Media) -> None: ...
    def packets(self, some: list[tuple[bytes, float]]) -> None: ...


@dataclass(frozen=True)
class Visit:
    """How a stream is asked for: with whose credentials, under which rules, and how long one that is gone is waited for.

    transport: None is multicast where that is planned or described, else TCP, or what the server does instead
    heard: who is given every packet as it comes, whole
    multicast: it is planned; answer_s: what each answer may take; where_lost: it is kept which packets are missing
    """

    credentials: Credentials | None = None
    rules: Rules = field(default_factory=Rules)
    endpoint: str = ""
    purpose: Purpose = Purpose.ENTER
    transport: Transport | None = None
    multicast: bool = False
    patience_s: float = 0.0
    answer_s: float = ANSWER_S
    where_lost: bool = False
    heard: Heard | None = None

"""What a stream server's refusal says: of the credentials, of the account, or of something else; the ledger is told of it."""

from __future__ import annotations

import secrets

from zentrale.errors import Cause, DeviceError, ForbiddenError, PlayError, RedirectedError, RefusedError
from zentrale.field.causes import CAUSES
from zentrale.field.rules import Try
from zentrale.field.visit import Visit
from zentrale.protocols.doors import Door, Outcome, Target, tells_of_a_lock, wait_told
from zentrale.protocols.http_auth import Answering
from zentrale.protocols.rtsp_client import Challenged, PlayerSession, Redirected, Refused, Transport
from zentrale.protocols.stream_address import StreamAddress


def refusal(
    refused: Refused, address: StreamAddress, visit: Visit, attempt: Try | None, transport: Transport
) -> DeviceError:
    """The error to raise. `attempt` is the try of a password that came before it, which is settled."""
    text = f"{address.host}:{address.port}: {refused.method} answered {refused.status} {refused.reason}".strip()
    cause = CAUSES.get(refused.status, Cause.OTHER)
    locks = tells_of_a_lock(f"{refused.reason} http {refused.status}") and cause is not Cause.BUSY
    if refused.status in (401, 403, 423, 429) or (attempt and locks):
        if locks:
            target = Target(address.host, address.port, visit.endpoint)
            if attempt is not None:
                attempt.locked(wait_told(refused.reason))
            visit.rules.ledger.lock(target, wait_told(refused.reason))
        if attempt is not None:
            attempt.settle(Outcome.REFUSED)
        return ForbiddenError(text) if refused.status == 403 and not locks else RefusedError(text)
    if attempt is not None:
        attempt.settle(Outcome.VOID)  # 404 and the like say nothing of the credentials
    return PlayError(f"{text} ({transport.value})" if cause is Cause.TRANSPORT else text, cause, refused.status)


async def authenticate(session: PlayerSession, challenged: Challenged, address: StreamAddress, visit: Visit) -> Try:
    """The server asks for credentials: send those of the visit, where nothing speaks against it. Raises the error of the refusal
    where there are none.
    """
    if visit.credentials is None:
        raise refusal(challenged.refused, address, visit, None, Transport.TCP)
    challenge = visit.rules.choose(
        challenged.offers, secure=address.secure, host=address.host, credentials=visit.credentials
    )
    if challenge is None:
        where = f"{address.host}:{address.port}"
        raise PlayError(f"{where}: it asks for credentials and does not say how", Cause.OTHER)
    target = Target(address.host, address.port, visit.endpoint)
    attempt = await Try.begin(visit.rules, target, Door.RTSP, challenge.scheme, visit.credentials, visit.purpose)
    session.authenticate(Answering(visit.credentials, secrets.token_hex(8)), challenge)
    return attempt


def redirection(event: Redirected, asked: StreamAddress) -> PlayError:
    """The error to raise where the server sends us elsewhere: one to follow, or to give up by where it means another host."""
    address = StreamAddress.told(event.location, asked.host)
    what = f"{asked.host}:{asked.port}: {event.method} answered {event.status}: the stream is at"
    if address.named:
        what = f"{what} another host, {address.named}, which was not asked"
        if address.url == asked.url:
            return PlayError(what, Cause.ELSEWHERE)
    return RedirectedError(what, event.location)

"""Events by pull point (ONVIF Core, Event Handling; WS-BaseNotification): a subscription, and messages that are fetched from it.

Of a property, a device tells the present value as soon as somebody subscribes (PropertyOperation Initialized).
"""

from __future__ import annotations

import copy
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import soap, xml
from zentrale.protocols.http_auth import without_userinfo
from zentrale.protocols.soap import NS, TEV, TT, WSA, WSNT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 1024
_MOST_VALUES = 8  # of one message
_CONCRETE = "http://www.onvif.org/ver10/tev/topicExpression/ConcreteSet"  # topics with alternatives
_ACTION = "http://www.onvif.org/ver10/events/wsdl/PullPointSubscription/PullMessagesRequest"
HARDWARE = "tns1:Device/HardwareFailure"
STORAGE_FAILURE = f"{HARDWARE}/StorageFailure"
JOB_STATE = "tns1:RecordingConfig/JobState"


@dataclass(frozen=True)
class Message:
    """`topic` with the prefix tns1 for ONVIF's own; `source` and `data` by the names of their items."""

    topic: str
    source: Mapping[str, str]
    data: Mapping[str, str]
    utc: datetime | None = None

    @property
    def true(self) -> bool:
        """Whether one of its values is true: the state that the topic is named after holds."""
        return any(xml.true(value) for value in self.data.values())


@dataclass(frozen=True)
class Subscription:
    """Where messages are fetched; `headers`: what goes along with each request there (WS-Addressing, reference parameters)."""

    address: str
    headers: tuple[Element, ...]


def create(topics: Iterable[str], lasts_s: float) -> Element:
    """CreatePullPointSubscription for these topics and those beneath them; for all where there is none."""
    expression = "|".join(f"{topic}//." for topic in topics)
    wanted = [TEV.Filter(WSNT.TopicExpression(expression, Dialect=_CONCRETE))] if expression else []
    return TEV.CreatePullPointSubscription(*wanted, TEV.InitialTerminationTime(f"PT{lasts_s:g}S"))


def topics_of(request: Element) -> list[str]:
    text = xml.text(request, "tev:Filter/wsnt:TopicExpression", NS)
    return [topic.removesuffix("//.").strip() for topic in text.split("|") if topic]


def create_response(address: str, now: datetime, until: datetime) -> Element:
    return TEV.CreatePullPointSubscriptionResponse(
        TEV.SubscriptionReference(WSA.Address(address)),
        WSNT.CurrentTime(soap.format_time(now)),
        WSNT.TerminationTime(soap.format_time(until)),
    )


def parse_create(response: Element) -> Subscription:
    """Raises RemoteProtocolError where it tells no address."""
    reference = response.find("tev:SubscriptionReference", NS)
    address = xml.text(reference, "wsa:Address", NS)
    if not address:
        raise RemoteProtocolError("a subscription without an address")
    held = None if reference is None else reference.find("wsa:ReferenceParameters", NS)
    parameters = [copy.deepcopy(e) for e in (held if held is not None else ())][:_MAX_ITEMS]
    for parameter in parameters:  # WS-Addressing 1.0, SOAP binding, clause 3
        parameter.set(f"{{{NS['wsa']}}}IsReferenceParameter", "true")
    return Subscription(address, (WSA.Action(_ACTION), WSA.To(address), *parameters))


def pull(wait_s: float, most: int) -> Element:
    return TEV.PullMessages(TEV.Timeout(f"PT{wait_s:g}S"), TEV.MessageLimit(str(most)))


def pull_response(messages: Iterable[Message], now: datetime, until: datetime) -> Element:
    return TEV.PullMessagesResponse(
        TEV.CurrentTime(soap.format_time(now)), TEV.TerminationTime(soap.format_time(until)), *map(_message, messages)
    )


def _message(message: Message) -> Element:
    inner = TT.Message(
        TT.Source(*(TT.SimpleItem(Name=n, Value=v) for n, v in message.source.items())),
        TT.Data(*(TT.SimpleItem(Name=n, Value=v) for n, v in message.data.items())),
    )
    inner.set("PropertyOperation", "Initialized")
    if message.utc is not None:
        inner.set("UtcTime", soap.format_time(message.utc))
    topic = WSNT.Topic(message.topic, Dialect=_CONCRETE)
    return WSNT.NotificationMessage(topic, WSNT.Message(inner))


def parse_pull(response: Element) -> list[Message]:
    return [_parsed(e) for e in response.findall("wsnt:NotificationMessage", NS)[:_MAX_ITEMS]]


def _parsed(element: Element) -> Message:
    inner = element.find("wsnt:Message/tt:Message", NS)

    def items(where: str) -> dict[str, str]:
        found = [] if inner is None else inner.findall(f"tt:{where}/tt:SimpleItem", NS)[:_MOST_VALUES]
        return {
            xml.safe(str(e.get("Name") or ""))[:60]: without_userinfo(xml.safe(str(e.get("Value") or "")))[:200]
            for e in found
        }

    topic = element.find("wsnt:Topic", NS)
    return Message(_named(topic), items("Source"), items("Data"), _time(inner))


def _time(inner: Element | None) -> datetime | None:
    try:
        return None if inner is None else soap.parse_time(str(inner.get("UtcTime") or ""))
    except RemoteProtocolError:
        return None


def _named(topic: Element | None) -> str:
    """With the standard's prefix, whatever the device calls that namespace."""
    text = xml.safe("" if topic is None else topic.text or "")
    prefix, colon, rest = text.partition(":")
    ours = topic is not None and bool(colon) and topic.nsmap.get(prefix) == NS["tns1"]
    return f"tns1:{rest.replace(f'{prefix}:', '')}" if ours else text


def unsubscribe() -> Element:
    return WSNT.Unsubscribe()

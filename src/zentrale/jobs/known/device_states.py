"""What keeps a device open or closed."""

from __future__ import annotations

from enum import Enum


class State(Enum):
    """What keeps a device open or closed, as a person would say it."""

    FRESH = "fresh, no password yet"
    DEFAULT_PASSWORD = "default password"
    OUR_PASSWORD = "our password"
    KNOWN_PASSWORD = "known password"
    OPEN = "open without password"
    UNKNOWN_PASSWORD = "password unknown"
    NOT_ASKED = "password not known yet"
    LOCKED = "says it is locked"
    UNSAFE = "not asked, since it is not safe"
    ANOTHER = "another device than the vault's password is of"
    RTSP_ONLY = "RTSP only"
    WEB_ONLY = "web page, no ONVIF"
    FAILING = "answers late or with errors"
    NO_ANSWER = "does not speak ONVIF"


CLOSED = (State.UNKNOWN_PASSWORD, State.NOT_ASKED, State.LOCKED, State.UNSAFE, State.ANOTHER)

"""The layers of a camera's way to the recorder: where a check looks, and where a camera breaks."""

from enum import IntEnum


class Layer(IntEnum):
    """How far on the way from the cable to the recorder; what fails lower down explains what is above."""

    LINK = 1
    ADDRESS = 2
    PORT = 3
    SERVICE = 4
    ACCESS = 5
    STREAM = 6
    PICTURE = 7
    RECORDING = 8
    NETWORK = 9

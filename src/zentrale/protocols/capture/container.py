"""The files that captures are kept in, pcap and pcapng, as bytes that come in parts.

What cannot be read ends the reading there, and says where: all that came before it counts.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from zentrale.protocols.capture import pcap, pcapng
from zentrale.protocols.capture.packets import ROOM_BYTES, SPARE, Batch, Form, Held

NOT_A_CAPTURE = "it is no capture file: it begins neither as pcap nor as pcapng"
# It begins to fill a buffer; what it returns waits for the end of that, and tells how many bytes came: 0 at the end of the file.
Fill = Callable[[memoryview], Callable[[], int]]


class CaptureReader:
    """Reads from whatever fills a buffer. `ended` says why it read no more, empty where all was read; `packets` how many there
    were.

    The bytes of a batch are good until the next one is asked for: of a file of any size no more than a buffer is held.
    """

    def __init__(self) -> None:
        self.ended = ""
        self.packets = 0
        self._form: Form | None = None
        self._held = Held(bytearray(), np.zeros(0, np.uint8), 0)

    def batches(self, fill: Fill, room_bytes: int = ROOM_BYTES) -> Iterator[Batch]:
        """While the packets of one buffer are looked at, `fill` may fill the other one."""
        front = min(
            room_bytes, pcapng.MAX_BLOCK_BYTES
        )  # the beginning of what is unfinished goes before what follows it
        buffers = [bytearray(front + room_bytes + SPARE) for _ in range(2)]
        views = [memoryview(buffer)[front : front + room_bytes] for buffer in buffers]
        coming, left, read = fill(views[0]), b"", 0
        while not self.ended and (came := coming()):
            buffer, begin, end = buffers[0], front - len(left), front + came
            buffer[begin:front] = left
            self._held = Held(buffer, np.frombuffer(buffer, np.uint8), read - front)
            read += came
            coming = fill(views[1])
            while not self.ended:
                after, found = self._parse(begin, end)
                if found is not None:
                    number = self.packets + 1
                    self.packets += len(found.at)
                    yield found._replace(number=number)
                if after == begin:
                    break
                begin = after
            left = bytes(buffer[begin:end])
            if len(left) > front and not self.ended:
                self._stop(begin, "a block that is larger than anything that a capture holds")
            buffers.reverse()
            views.reverse()
        if not self.ended:
            if self._form is None:
                self.ended = NOT_A_CAPTURE if left else "the file is empty"
            elif left:
                self.ended = f"cut off at byte {read - len(left)}: {len(left)} bytes of an unfinished packet are left"

    def _stop(self, at: int, why: str) -> None:
        self.ended = f"damaged at byte {self._held.offset + at}: {why}"

    def _parse(self, begin: int, end: int) -> tuple[int, Batch | None]:
        """How far it came between these places of the buffer, and the packets up to there."""
        if self._form is None:
            self._form = self._form_of(begin, end)
            if isinstance(self._form, pcap.Records):
                return begin + pcap.HEADER_BYTES, None
        if self._form is None:
            return begin, None
        parsed = self._form.parse(self._held, begin, end)
        if parsed.damaged:
            self._stop(parsed.after, parsed.damaged)
        return parsed.after, parsed.found

    def _form_of(self, begin: int, end: int) -> Form | None:
        """None until enough of the file is there to tell its form."""
        header = bytes(self._held.buffer[begin : min(end, begin + pcap.HEADER_BYTES)])
        if header[:4] == pcapng.MAGIC:
            return pcapng.Blocks()
        if header[:4] in pcap.MAGIC:
            return pcap.Records(header) if len(header) == pcap.HEADER_BYTES else None
        if len(header) >= 4:
            self.ended = NOT_A_CAPTURE
        return None

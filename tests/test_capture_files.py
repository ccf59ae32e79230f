"""Large captures are read at a stroke: what is found is what one by one would have found, whatever the file holds."""

from __future__ import annotations

import io
import struct
from collections.abc import Callable
from functools import partial
from pathlib import Path
from random import Random
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import zentrale
from test_wire import CAMERA, OTHER, RECORDER, block, ethernet, ip4, pcap, tcp, udp
from zentrale.protocols.capture.alike import decode
from zentrale.protocols.capture.chains import walk
from zentrale.protocols.capture.container import CaptureReader
from zentrale.protocols.capture.grouping import by_kin
from zentrale.protocols.capture.layers import Addresses
from zentrale.protocols.capture.packets import Batch, every

BEGUN_S = 1_790_000_000 - 1  # the seconds go on over a change of their higher half
PLACES = list[tuple[int, int, float]]  # where a packet begins in the file, its bytes, its time [s]


def records(count: int, order: str, chance: Random, begun_s: int) -> tuple[bytearray, PLACES]:
    """pcap, in packets of many sizes, some of which hold a piece of a capture themselves."""
    data, places = bytearray(pcap([], order)), PLACES()
    for number in range(count):
        body = bytes(data[-3000:]) if number % 50 == 49 else bytes(chance.choice((0, 1, 60, 1400, 1500)))
        places.append((len(data) + 16, len(body), begun_s + number / 1000))
        data += (
            struct.pack(f"{order}IIII", begun_s + number // 1000, number % 1000 * 1000, len(body), len(body) + 9) + body
        )
    return data, places


def blocks(count: int, order: str, chance: Random, begun_s: int) -> tuple[bytearray, PLACES]:
    """pcapng, with blocks of other kinds here and there: statistics, names, another interface, a simple packet."""
    head = struct.pack(f"{order}HHI", 1, 0, 0)
    data, places = (
        bytearray(block(0x0A0D0D0A, struct.pack(f"{order}IHHq", 0x1A2B3C4D, 1, 0, -1), order) + block(1, head, order)),
        PLACES(),
    )
    for number in range(count):
        body = bytes(data[-3000:]) if number % 50 == 49 else bytes(chance.choice((0, 1, 60, 1400, 1500)))
        ticks = begun_s * 1_000_000 + number * 1000
        places.append((len(data) + 28, len(body), ticks / 1e6))
        words = struct.pack(f"{order}IIIII", 0, ticks >> 32, ticks & 0xFFFFFFFF, len(body), len(body))
        data += block(6, words + body, order)
        if number == 2500:
            data += block(5, bytes(12), order) + block(1, head, order) + block(0xBAD, b"something", order)
        if number == 3500:
            places.append((len(data) + 12, 40, 0.0))
            data += block(3, struct.pack(f"{order}I", 40) + bytes(40), order)
    return data, places


def read(data: bytes) -> tuple[PLACES, str]:
    """What the reader finds, by places in the file."""
    reader, found = CaptureReader(), PLACES()
    for batch in reader.batches(partial(partial, io.BytesIO(data).readinto), 1 << 21):
        places = batch.at + reader._held.offset
        found += zip(places.tolist(), batch.caught.tolist(), batch.time_s.tolist(), strict=True)
    return found, reader.ended


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("begun_s", [0x6AB0_FFFE, 1, 1_790_000_000])
@pytest.mark.parametrize("made", [records, blocks])
def test_each_packet_is_where_it_was_written(order: str, begun_s: int, made: type) -> None:
    data, wanted = made(9000, order, Random(7), begun_s)
    found, ended = read(bytes(data))
    assert ended == "" and [f[:2] for f in found] == [w[:2] for w in wanted]
    assert np.allclose([f[2] for f in found], [w[2] for w in wanted], rtol=0, atol=1e-5)
    row = 7000
    for size in (0xFFFF_FFF0, 0xFFFF_FFFF, 700_000_000, 13):  # what a packet says of its size is not true
        broken, place = data.copy(), wanted[row][0] - 8
        broken[place : place + 4] = struct.pack(f"{order}I", size)
        found, ended = read(bytes(broken))
        if size != 13:
            assert ended.startswith("damaged at byte") and [f[:2] for f in found] == [w[:2] for w in wanted[:row]]
        assert [f[:2] for f in found[:row]] == [w[:2] for w in wanted[:row]]
    found, ended = read(bytes(data[: wanted[8000][0] + 5]))
    assert ended.startswith("cut off at byte") and [f[:2] for f in found][:8000] == [w[:2] for w in wanted[:8000]]


def _odd_one(chance: Random) -> bytes:
    """A datagram, or one that is a little otherwise: parts, options, tags, lengths that lie, another protocol."""
    content = bytes(chance.randrange(60))
    whole = udp((CAMERA, 5000 + chance.randrange(3)), (RECORDER, 6000), content)
    ports = struct.pack("!HHHH", 5000, 6000, chance.choice((0, 8, 9, 60_000)), 0)
    return chance.choice((
        ethernet(CAMERA, whole), ethernet(CAMERA, whole), ethernet(CAMERA, whole), ethernet(CAMERA, whole),
        ethernet(CAMERA, ip4(CAMERA, RECORDER, 17, ports + content)), ethernet(CAMERA, ip4(CAMERA, RECORDER, 17, content)),
        ethernet(CAMERA, ip4(CAMERA, RECORDER, 17, ports + content, 7, chance.choice((0x2000, 0x4000, 3)))),
        ethernet(CAMERA, ip4(CAMERA, RECORDER, chance.choice((2, 6, 50)), ports + content)),
        ethernet(CAMERA, whole, tags=[(0x8100, 20)]), ethernet(CAMERA, b"\x46" + whole[1:20] + bytes(4) + whole[20:]),
        ethernet(CAMERA, whole[:2] + struct.pack("!H", chance.choice((0, 20, 27, 5000))) + whole[4:]),
    ))  # fmt: skip


@settings(max_examples=12, deadline=None)
@given(st.integers(1, 200), st.randoms(use_true_random=False))
def test_what_begins_alike_is_read_as_each_would_be_alone(count: int, chance: Random) -> None:
    frames = [(n / 100, _odd_one(chance)) for n in range(count)]
    snap = chance.choice((65535, 60, 44, 36, 16))
    (batch,) = CaptureReader().batches(partial(partial, io.BytesIO(pcap(frames, snap=snap)).readinto))
    together = decode(batch, Addresses())
    for row in range(count):
        one: list[Any] = [column[row : row + 1] for column in batch[1:-1]]
        alone = decode(Batch._make([batch.data, *one, row]), Addresses())
        for name in set(alone._fields) - {"near", "kin"}:
            assert getattr(together, name)[row] == getattr(alone, name)[0], (name, frames[row])
    kinds: dict[int, tuple[int, ...]] = {}
    for row, kin in enumerate(together.kin.tolist()):
        told = tuple(
            int(getattr(together, n)[row]) for n in ("sender", "source", "source_port", "target", "target_port")
        )
        assert kin < 0 or kinds.setdefault(kin, told) == told
    assert sorted(kinds) == sorted(set(kinds.values()) and range(len(kinds)))


def test_who_talked_to_whom_is_counted_from_the_first_packet_on(tmp_path: Path) -> None:
    """Streams among other packets of the same pairs: a ping that came before them, parts, another port."""
    chance, hosts = Random(11), (CAMERA, OTHER, "10.20.0.77")
    kinds: list[Callable[[str], bytes]] = [
        lambda host: udp((host, 5000), (RECORDER, 6000), bytes(chance.randrange(900))),
        lambda host: udp((host, 5002), (RECORDER, 6002), bytes(chance.randrange(90))),
        lambda host: ip4(host, RECORDER, 1, b"\x08\0\0\0" + bytes(30)),
        lambda host: ip4(host, RECORDER, 17, bytes(100), 9, 0x2000),
        lambda host: tcp((RECORDER, 554), (host, 40_000), 1, b"", 0x10),
    ]
    frames, wanted = [], dict[tuple[str, str], list[int]]()
    for number in range(1, 701):
        host, kind = chance.choice(hosts), chance.choices(kinds, (9, 9, 1, 1, 3))[0]
        frame = ethernet(host, kind(host))
        pair = (RECORDER, host) if kind is kinds[4] else (host, RECORDER)
        first = wanted.setdefault(pair, [number, 0, 0])
        first[1], first[2] = first[1] + 1, first[2] + len(frame)
        frames.append((number / 100, frame))
    (tmp_path / "some.pcap").write_bytes(pcap(frames))
    told = zentrale("wire", "read", "some.pcap", "--json", cwd=tmp_path).json["talk"]
    assert {(t["from"], t["to"]): [t["first_packet"], t["packets"], t["bytes"]] for t in told} == wanted


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 1 << 32), st.sampled_from([40, 700, 9000]), st.booleans())
def test_whatever_is_guessed_only_what_one_by_one_would_find_is_found(seed: int, most: int, own_size: bool) -> None:
    """Records that begin with their size, with or without these four bytes; guesses are right, wrong, or none."""
    chance = Random(seed)
    sizes, places = list[int](), [16]
    while places[-1] < 300_000:
        sizes.append(chance.randrange(12, most))
        places.append(places[-1] + sizes[-1] + (0 if own_size else 4))
    data = np.frombuffer(chance.randbytes(places[-1] + 200), np.uint8).copy()
    for place, size in zip(places, sizes, strict=False):
        data[place : place + 4] = np.frombuffer(struct.pack("<I", size), np.uint8)

    def guess(low: int, high: int) -> int:
        right = next((p for p in places if low <= p < high), -1)
        return chance.choice((right, right, right, low + chance.randrange(high - low), -1))

    found, after = walk(every(data, "<u4"), places[0], places[-1], 0 if own_size else 4, guess)
    assert found.tolist() == places[: len(found)] and after == places[len(found)]
    right, last = walk(every(data, "<u4"), places[0], places[-1], 0 if own_size else 4, lambda low, high: next(
        (p for p in places if low <= p < high), -1
    ))  # fmt: skip
    assert right.tolist() == places[: len(right)] and last == places[len(right)] and len(right) > 0.6 * len(places)


@given(st.lists(st.tuples(st.integers(-1, 5), st.integers(0, 2)), min_size=1, max_size=60))
def test_kin_are_together_unless_something_else_tells_them_apart(rows: list[tuple[int, int]]) -> None:
    kin, other = (np.array(column, np.int64) for column in zip(*rows, strict=True))
    told = by_kin(kin, other)
    by_number: dict[int, list[int]] = {}
    for row, (number, _) in enumerate(rows):
        by_number.setdefault(number, []).append(row)
    apart = any(len({rows[r][1] for r in some}) > 1 for some in by_number.values())
    assert (told is None) == (apart or -1 in by_number)
    if told is not None:
        order, begins = told
        assert [part.tolist() for part in np.split(order, begins[1:])] == [by_number[n] for n in sorted(by_number)]

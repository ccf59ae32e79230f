"""Rows that are alike in all of some columns, found at a stroke."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
Column = npt.NDArray[Any]  # of whole numbers

_MOST_KIN = 0xFFFF  # numbers of 16 bits are sorted without comparing
_FIRST = np.zeros(1, np.int64)


def groups(columns: Sequence[Column]) -> Iterator[Ints]:
    """Rows that are alike in all columns, each group in order."""
    order, begins = grouped(columns)
    yield from np.split(order, begins[1:])


def by_kin(kin: Ints, *more: Column) -> tuple[Ints, Ints] | None:
    """As `grouped`, where it is known already who is of one kin (packets that begin alike). None where that is not known of all
    (-1), or where these columns tell some of one kin apart.
    """
    if not len(kin) or kin.min() < 0 or kin.max() > _MOST_KIN:
        return None
    order = np.argsort(kin.astype(np.uint16), kind="stable")
    cut = _changes(kin[order])
    if any((_changes(column[order]) & ~cut).any() for column in more):
        return None
    return order, np.concatenate([_FIRST, np.flatnonzero(cut) + 1])


def grouped(columns: Sequence[Column]) -> tuple[Ints, Ints]:
    """The rows so ordered that those which are alike in all columns are together, in their order; and where each group begins."""
    mixed = np.zeros(len(columns[0]), np.uint64)
    for column in columns:
        mixed = (mixed ^ column.astype(np.uint64, copy=False)) * np.uint64(0x9E3779B97F4A7C15)
        mixed ^= mixed >> np.uint64(29)
    for key in (
        (mixed >> np.uint64(48)).astype(np.uint16),
        mixed,
    ):  # 16 bits are sorted without comparing, and mostly do
        order = np.argsort(key, kind="stable")
        cut = _changes(key[order])
        apart = np.zeros(len(cut), bool)
        for column in columns:
            apart |= _changes(column[order])
        if not (apart & ~cut).any():
            break
    else:  # two ways with one sum: somebody made them so
        _, which = np.unique(np.stack(columns), axis=1, return_inverse=True)
        order = np.argsort(which.reshape(-1), kind="stable")
        cut = _changes(which.reshape(-1)[order])
    return order, np.concatenate([_FIRST[: len(order)], np.flatnonzero(cut) + 1])


def _changes(column: npt.NDArray[Any]) -> Bools:
    changes: Bools = column[1:] != column[:-1]
    return changes

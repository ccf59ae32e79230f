"""Passwords that are made here: what the rules of most devices accept, and what one device asks for."""

from __future__ import annotations

import secrets
import string
from collections.abc import Sequence

PASSWORD_LENGTH = 16
# Without characters that look alike on paper, and without those that some devices refuse.
_LETTERS = "".join(c for c in string.ascii_letters if c not in "IlOo")
_CAPITALS = "".join(c for c in _LETTERS if c.isupper())
_SMALL = "".join(c for c in _LETTERS if c.islower())
_DIGITS, _SIGNS = "23456789", "-_.+="
_chance = secrets.SystemRandom()


def generate_password(length: int = PASSWORD_LENGTH, least: Sequence[int] = (1, 1, 1)) -> str:
    """Begins with a letter, and holds letters of both cases, digits and a sign.

    length: in characters, 4 or more; least: how many capital letters, digits and signs at least, as far as there is room
    """
    wanted = [max(1, n) for n in least]
    while sum(wanted) > length - 1:
        wanted[wanted.index(max(wanted))] -= 1
    made = [
        secrets.choice(kind) for kind, n in zip((_CAPITALS, _DIGITS, _SIGNS), wanted, strict=True) for _ in range(n)
    ]
    made.append(secrets.choice(_SMALL))
    made += [secrets.choice(_LETTERS + _DIGITS + _SIGNS) for _ in range(length - len(made))]
    while True:
        _chance.shuffle(made)
        if made[0] in _LETTERS:
            return "".join(made)

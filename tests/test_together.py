"""Two commands at once on one site: nothing is lost, whoever comes first."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

TOOL = Path(__file__).parents[1] / "tools" / "together.py"


def test_pairs_of_commands_lose_nothing() -> None:
    done = subprocess.run(
        [sys.executable, str(TOOL), "--rounds", "1"], capture_output=True, text=True, timeout=400, check=False
    )
    assert done.returncode == 0 and done.stdout.count("1 rounds, 0 with a loss") == 6, done.stdout

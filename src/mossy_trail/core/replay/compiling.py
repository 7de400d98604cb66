"""Compiling the replay in two pieces, by two processes beside each other.

`python -m mossy_trail.core.replay.compiling walk` (and `around`) needs NumPy and Numba alone: a
first start begins with it while all other packages are installed.
"""

from __future__ import annotations

import sys

from mossy_trail.core.replay.replay import compile_around, compile_walk

PIECES = {"walk": compile_walk, "around": compile_around}

if __name__ == "__main__":
    PIECES[sys.argv[1]]()

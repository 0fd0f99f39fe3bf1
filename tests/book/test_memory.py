"""What a server gives back of its memory."""

import os
from pathlib import Path

import numpy as np

from wise_tally.book.freed_memory import give_back_freed


def resident():
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def test_pages_between_pieces_still_in_use_go_back_to_the_machine():
    """Pieces small enough to lie in the heap, of which every tenth stays, so that its end does not sink."""
    pieces = [np.ones(8_000) for _ in range(3_000)]
    kept = pieces[::10]
    size = sum(piece.nbytes for piece in pieces)
    held = resident()
    del pieces
    give_back_freed()
    assert held - resident() > size * 0.7
    assert all(piece[0] == 1 for piece in kept)

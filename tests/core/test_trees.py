"""Trees of teams and territories: loops on any date, and roll-up."""

import numpy as np
import pytest

from wise_tally.core.errors import TreeLoop
from wise_tally.core.trees import Tree, loop_on_any_date


def test_trees_refuse_loops_on_any_date():
    with pytest.raises(TreeLoop, match="below itself"):
        _ = Tree((1, 0)).paths
    assert loop_on_any_date([[(0, -1), (10, 1)], [(0, 0), (10, -1)]]) is None
    assert loop_on_any_date([[(0, -1), (10, 1)], [(0, 0)]]) is not None
    direct = np.array([[1], [2], [4]])
    assert Tree((-1, 0, 1)).roll_up(direct).ravel().tolist() == [7, 6, 4]

"""One model of every composed kind is told as it is; `make words` tells many of each."""

import pytest

from compose import KINDS, run


@pytest.mark.parametrize("name", KINDS)
def test_what_is_told_of_a_composed_model_is_so(name):
    assert run([name], 2, 7) == []

"""The examples in docstrings are true."""

from __future__ import annotations

import doctest
import importlib
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src"
WITH_EXAMPLES = sorted(path for path in SOURCE.rglob("*.py") if ">>>" in path.read_text("utf-8"))


@pytest.mark.parametrize("path", WITH_EXAMPLES, ids=lambda path: path.stem)
def test_examples_come_out_as_written(path):
    name = ".".join(path.relative_to(SOURCE).with_suffix("").parts)
    result = doctest.testmod(importlib.import_module(name), optionflags=doctest.NORMALIZE_WHITESPACE)
    assert result.attempted
    assert not result.failed

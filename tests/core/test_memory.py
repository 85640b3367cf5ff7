"""What is done with freed memory, counted in pages that the system was asked for."""

from __future__ import annotations

import subprocess
import sys

import pytest

_ASK_AGAIN = """
import resource
import numpy as np
from rilievo.core.memory import release_memory, reuse_freed_memory

def asked():
    before = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
    for _ in range(20):
        _ = [np.ones(1 << 18) for _ in range(8)]
    return resource.getrusage(resource.RUSAGE_SELF).ru_minflt - before

{first}
print(asked())
print(asked())
{then}
print(asked())
"""


def pages(first: str = "", then: str = "") -> list[int]:
    """How many pages eight arrays of 2 MB ask for, made 20 times; three times over."""
    code = _ASK_AGAIN.format(first=first, then=then)
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True, timeout=120
    )
    return [int(line) for line in done.stdout.split()]


@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="of the C library of Linux")
def test_freed_memory_is_used_again_and_given_back_when_asked() -> None:
    first, again, after = pages("reuse_freed_memory()", "release_memory()")
    # The first eight (and those before they are freed), and nothing again.
    assert first < 3 * 8 * 512
    assert again < 100
    # What was given back is asked for once more.
    assert 7 * 512 < after < 3 * 8 * 512

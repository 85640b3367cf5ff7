"""Random hands on the window for as long as one likes.

    python bench/random_hands.py [ACTIONS] [SEED …]

Prints what was found, and the memory at the end of each walk.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))


from tests.ui.random_hands import Hands, memory_now

from rilievo.demo.sets import write_demo_study
from rilievo.ui.shell.app import make_application
from rilievo.ui.shell.window import Window

_KEPT = 500_000_000


def main() -> int:
    """Walk with each seed, and print what was found and the memory after every 1000 actions."""
    given = [int(word) for word in sys.argv[1:]]
    actions, seeds = (given[0] if given else 1000), given[1:] or [1]
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory(prefix="rilievo-hands-") as name:
        home = Path(name)
        for kind in ("CONFIG", "DATA", "STATE", "CACHE"):
            os.environ[f"XDG_{kind}_HOME"] = str(home / kind)
        application = make_application()
        studies = [write_demo_study(key, home / key)[0] for key in ("lipid", "swatches")]
        count = 0
        for seed in seeds:
            window = Window()
            window.show()
            # Little is kept, so that memory that only grows is soon seen.
            window.compute.store.set_budget(_KEPT)
            window.commands.study.open_study(studies[0])
            folder = home / f"out {seed}"
            folder.mkdir()
            hands = Hands(window, folder, studies, seed)
            start = time.perf_counter()
            with hands.watching():
                hands.walk(actions, lambda n: print(f"   {n}: {memory_now():.2f} GB", flush=True))
                window.commands.study.asks_before_leaving = False
                window.close()
                window.deleteLater()
                application.processEvents()
            found = hands.findings
            count += len(found.said)
            print(
                f"seed {seed}: {actions} actions in {time.perf_counter() - start:.0f} s, "
                f"{len(found.said)} findings, longest {found.slowest:.2f} s, "
                f"{memory_now():.2f} GB",
                flush=True,
            )
            for text in dict.fromkeys(found.said):
                print(text)
            for text in found.slow[:8]:
                print("   slow", text)
    return int(count > 0)


if __name__ == "__main__":
    raise SystemExit(main())

"""All tests, module by module, in as many processes as there are processors.

    python -m tests

runs the same as `python -m unittest`, in less time: one line a module, and all that a module says that fails.
"""

import os
import re
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

_LONG = (
    "edited", "recorded", "laws", "half_known", "changed_copies", "repair", "visiting", "command", "lab", "situations",
)  # fmt: skip
"""The modules that take longest, which begin first."""


def _rank(path: Path) -> tuple[int, str]:
    name = path.stem.removeprefix("test_")
    return _LONG.index(name) if name in _LONG else len(_LONG), name


def _run(path: Path) -> bool:
    """Run one module's tests; whether they pass."""
    begin = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "unittest", f"tests.{path.stem}"],
        capture_output=True,
        text=True,
        check=False,
        cwd=path.parent.parent,
    )
    ran = re.search(r"Ran (\d+) tests?", done.stderr)
    skipped = re.search(r"skipped=(\d+)", done.stderr)
    passed = done.returncode == 0 and ran is not None
    aside = f", {skipped[1]} skipped" if skipped else ""
    line = f"{path.stem}: {ran[1] if ran else 'no'} tests{aside}, {time.perf_counter() - begin:.0f} s"
    print(
        f"{line}{'' if passed else ': FAILED'}", *([] if passed else [done.stdout + done.stderr]), sep="\n", flush=True
    )
    return passed


def main() -> int:
    """Run all modules."""
    modules = sorted(Path(__file__).parent.glob("test_*.py"), key=_rank)
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        passed = list(pool.map(_run, modules))
    print(f"{sum(passed)} of {len(modules)} modules pass")
    return 0 if all(passed) else 1


if __name__ == "__main__":
    sys.exit(main())

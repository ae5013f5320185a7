"""What the processes of an installation have in common, loaded once before they are forked."""

from __future__ import annotations

import gc
import os

# One numeric thread a process: more would only take the cores from each other, and a process with
# threads cannot be forked safely.
for _name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "NUMBA_NUM_THREADS"):
    os.environ.setdefault(_name, "1")

import fond_echo.running.media  # noqa: E402
import fond_echo.running.phone  # noqa: E402
import fond_echo.running.work  # noqa: E402
import fond_echo.speech.server  # noqa: E402
import fond_echo.speech.warm  # noqa: E402
import fond_echo.web.app  # noqa: E402, F401

# What is there now stays: no process looks through it for garbage, and so it is shared longer.
gc.collect()
gc.freeze()

"""What the processes of an installation have in common, loaded once before they are forked."""

from __future__ import annotations

import gc
import os

# What is loaded stays: looking through it for garbage again and again takes a sixth of the time.
gc.disable()

# One numeric thread a process: more would only take the cores from each other, and a process with
# threads cannot be forked safely.
for _name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "NUMBA_NUM_THREADS"):
    os.environ.setdefault(_name, "1")

import sqlalchemy.orm  # noqa: E402

import fond_echo.documents.warm  # noqa: E402
import fond_echo.running.media  # noqa: E402
import fond_echo.running.phone  # noqa: E402
import fond_echo.running.work  # noqa: E402
import fond_echo.speech.server  # noqa: E402
import fond_echo.speech.warm  # noqa: E402
import fond_echo.web.app  # noqa: E402, F401
from fond_echo.tls import trusted  # noqa: E402

# Every one of them would do it for itself, each for a quarter of a second.
sqlalchemy.orm.configure_mappers()
trusted()

# No process looks through it for garbage either, and so it is shared longer.
gc.freeze()
gc.enable()

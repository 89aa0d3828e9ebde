"""What is set before anything else of a command is loaded."""

from __future__ import annotations

import os

# where commands interpolate, thousands of small systems are solved, as of triangles: on a busy machine a library of
# linear algebra that shares each among threads waits for these a thousand times longer than it works
for _name in ("OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS"):
    os.environ.setdefault(_name, "1")

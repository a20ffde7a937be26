"""Tall Grain: a bench instrument for people who build printers."""

import os

__version__ = "0.2.0"

# Matrices here are small: threads of the linear algebra would wait for each other longer than they
# compute. It is read when NumPy is loaded; whoever wants threads sets these first (docs/cli.md).
for _setting in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"):
    os.environ.setdefault(_setting, "1")

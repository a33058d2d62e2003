"""Gentle Veil: digital makeup for moving pictures."""

import os

# The matrices here are small and frames are shared out over processes: threads inside BLAS only get in each
# other's way. It has to be said before numpy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"

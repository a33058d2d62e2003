"""Followers, one folder each; `FOLLOWERS` lists them by kind."""

import sys

from gentle_veil.core.contracts.follower import Follower
from gentle_veil.core.contracts.loader import load_plugins

FOLLOWERS: dict[str, Follower] = load_plugins(sys.modules[__name__], "FOLLOWER")

"""The follower that integrates dense motion."""

from gentle_veil.core.followers.vectors.vectors import VectorsFollower

FOLLOWER = VectorsFollower()

"""The follower that knows what a face is."""

from gentle_veil.core.followers.face.face import FaceFollower

FOLLOWER = FaceFollower()

"""The follower that bends with the surface."""

from gentle_veil.core.followers.mesh.follower import MeshFollower

FOLLOWER = MeshFollower()

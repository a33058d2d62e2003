"""What can be set on the plane follower."""

from dataclasses import dataclass

from gentle_veil.core.contracts.params import number, switch


@dataclass(frozen=True)
class PlaneOptions:
    position: bool = switch(True, label="Position", help="The surface travels over the picture.", group="Motion")
    scale: bool = switch(True, label="Scale", help="It comes nearer or goes away.", group="Motion")
    rotation: bool = switch(True, label="Rotation", help="It turns in the picture.", group="Motion")
    shear: bool = switch(True, label="Shear", help="It stretches or leans.", group="Motion")
    perspective: bool = switch(
        True,
        label="Perspective",
        help="It tilts against the camera. Switch off for small or far surfaces, where it only adds noise.",
        group="Motion",
    )
    texture: float = number(
        1.0,
        label="Texture used",
        help="How much of the region's texture counts: all of it, or only the strongest. Less leaves out faint things "
        "that do not go with the surface, as reflections; on skin use all.",
        group="Picture",
        low=0.05,
        high=1.0,
        step=0.05,
        keyable=False,
    )
    refresh: bool = switch(
        False,
        label="Learn new looks",
        help="Where the region looks like a later picture of itself better than like the reference, it is known by "
        "that. For surfaces that change; every new look may add a little drift.",
        group="Picture",
    )
    spacing: float = number(
        16.0,
        label="Mesh spacing",
        help="Distance of the mesh's vertices on the reference frame.",
        group="Mesh",
        low=4.0,
        high=128.0,
        step=1.0,
        unit="px",
        keyable=False,
    )

    def motions(self) -> dict[str, bool]:
        return {
            "position": self.position,
            "scale": self.scale,
            "rotation": self.rotation,
            "shear": self.shear,
            "perspective": self.perspective,
        }

"""How stars are found and measured, as data."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from pydantic import Field, model_validator

from rilievo.core.parameters import Parameters


def _pixels(
    default: float | None, title: str, description: str, *, least: float, most: float = 1000
) -> Any:
    """A length in pixels of the picture; stars are never measured on a smaller one."""
    extra: dict[str, Any] = {"unit": "px", "empty": "found"}
    return Field(
        default, ge=least, le=most, title=title, description=description, json_schema_extra=extra
    )


# Circles in widths (FWHM) of the picture's own stars, where none are typed.
APERTURE, SKY_INNER, SKY_OUTER = 2.5, 4.0, 6.5


class StarUse(Parameters):
    """How stars are found and with which circles they are measured. Lengths are in pixels."""

    sigmas: float = Field(
        6.0,
        ge=1,
        le=1000,
        title="Above the sky by",
        description="a peak must exceed the sky by so many sigmas of the smoothed picture",
        json_schema_extra={"unit": "sigma"},
    )
    width: float | None = _pixels(
        None,
        "Width of a star",
        "FWHM for the smoothing; empty finds it from the brightest stars",
        least=0.5,
        most=100,
    )
    radius: float | None = _pixels(
        None, "Aperture radius", "of the circle of the flux; empty is 2.5 widths", least=1, most=500
    )
    sky_inner: float | None = _pixels(
        None, "Sky from", "inner radius of the sky ring; empty is 4 widths", least=1
    )
    sky_outer: float | None = _pixels(
        None, "Sky to", "outer radius of the sky ring; empty is 6.5 widths", least=2
    )
    isolation: float | None = _pixels(
        None, "Alone within", "another star this near makes a blend; empty is 4 widths", least=0
    )
    sharpest: float = Field(
        0.2,
        ge=0,
        le=1,
        title="Neighbours at least",
        description="share of the peak that the four pixels beside it hold; less is a hot pixel "
        "or a cosmic ray",
        json_schema_extra={"unit": "of peak"},
    )
    elongation: float = Field(
        0.3,
        gt=0,
        le=1,
        title="Elongated by",
        description="ellipticity beyond the median of the picture's stars",
    )
    model: Literal["moffat", "gaussian"] = Field(
        "moffat", title="Profile", description="fitted for FWHM and ellipticity"
    )
    gain: float = Field(
        0.0,
        ge=0,
        le=1e6,
        title="Gain",
        description="electrons a count, for the stars' own noise; 0 takes that of the file",
        json_schema_extra={"unit": "e⁻/count"},
    )
    zero_point: float = Field(
        25.0,
        ge=-100,
        le=100,
        title="Zero point",
        description="magnitude of one count",
        json_schema_extra={"unit": "mag"},
    )

    def resolved(self, width: float, gain: float = 0.0, read_noise: float = 0.0) -> StarCircles:
        """Return the circles in pixels for stars of a width (FWHM, pixels).

        gain, read_noise : what the file states, used where the method has none.
        """
        radius = self.radius or APERTURE * width
        inner = max(self.sky_inner or SKY_INNER * width, radius)
        outer = max(self.sky_outer or SKY_OUTER * width, inner + 1)
        isolation = SKY_INNER * width if self.isolation is None else self.isolation
        return StarCircles(
            use=self,
            width=width,
            radius=radius,
            sky_inner=inner,
            sky_outer=outer,
            isolation=isolation,
            gain=self.gain or gain,
            read_noise=read_noise,
        )

    def with_circle(self, name: str, radius: float, now: StarCircles) -> StarUse:
        """Return it with one of its circles changed; the others give way where they must.

        name : "radius", "sky_inner" or "sky_outer". now : the circles as they are.
        """
        radii = {"radius": now.radius, "sky_inner": now.sky_inner, "sky_outer": now.sky_outer}
        radii[name] = round(min(max(radius, 1.0), 500.0), 2)
        if name == "radius":
            radii["sky_inner"] = max(radii["sky_inner"], radii["radius"])
        elif name == "sky_inner":
            radii["radius"] = min(radii["radius"], radii["sky_inner"])
        else:
            radii["sky_inner"] = min(radii["sky_inner"], max(radii["sky_outer"] - 1, 1.0))
            radii["radius"] = min(radii["radius"], radii["sky_inner"])
        radii["sky_outer"] = max(radii["sky_outer"], radii["sky_inner"] + 1)
        return StarUse.model_validate({**dict(self), **radii})

    @model_validator(mode="after")
    def _in_order(self) -> StarUse:
        typed = [r for r in (self.radius, self.sky_inner, self.sky_outer) if r is not None]
        if typed != sorted(typed) or (self.sky_inner and self.sky_inner == self.sky_outer):
            raise ValueError(
                "must have its sky ring outside of the aperture, from a smaller to a larger radius"
            )
        return self


@dataclass(frozen=True)
class StarCircles:
    """The circles with which the stars of a picture are measured, in pixels.

    use : what the method says. width : FWHM of the picture's stars. gain : electrons a count, 0
    where it is not known. read_noise : electrons.
    """

    use: StarUse
    width: float
    radius: float
    sky_inner: float
    sky_outer: float
    isolation: float
    gain: float = 0.0
    read_noise: float = 0.0

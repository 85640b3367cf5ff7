from __future__ import annotations

from rilievo.core.measure.stars.star_settings import StarUse


def test_circles_give_way_to_the_one_that_is_dragged() -> None:
    use = StarUse(radius=8, sky_inner=12, sky_outer=20)
    assert use.with_circle("radius", 15).sky_inner == 15
    assert use.with_circle("radius", 30).sky_outer == 31
    assert use.with_circle("sky_inner", 5).radius == 5
    assert use.with_circle("sky_outer", 6).model_dump(include={"radius", "sky_inner"}) == {
        "radius": 5, "sky_inner": 5,
    }  # fmt: skip
    assert use.with_circle("sky_inner", 25).sky_outer == 26

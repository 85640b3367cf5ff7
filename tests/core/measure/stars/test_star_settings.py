from __future__ import annotations

from rilievo.core.measure.stars.star_settings import StarUse


def test_circles_give_way_to_the_one_that_is_dragged() -> None:
    use = StarUse(radius=8, sky_inner=12, sky_outer=20)
    now = use.resolved(4.0)
    assert use.with_circle("radius", 15, now).sky_inner == 15
    assert use.with_circle("radius", 30, now).sky_outer == 31
    assert use.with_circle("sky_inner", 5, now).radius == 5
    assert use.with_circle("sky_outer", 6, now).model_dump(include={"radius", "sky_inner"}) == {
        "radius": 5, "sky_inner": 5,
    }  # fmt: skip
    assert use.with_circle("sky_inner", 25, now).sky_outer == 26


def test_circles_follow_the_width_of_the_stars_unless_typed() -> None:
    found = StarUse().resolved(6.0, gain=1.5)
    assert (found.radius, found.sky_inner, found.sky_outer, found.isolation) == (15, 24, 39, 24)
    assert found.gain == 1.5
    typed = StarUse(radius=30, gain=2).resolved(6.0, gain=1.5)
    assert (typed.radius, typed.sky_inner, typed.sky_outer, typed.gain) == (30, 30, 39, 2)


def test_the_ring_has_a_width_where_one_side_is_typed() -> None:
    found = StarUse(sky_inner=50).resolved(6.0)
    assert (found.sky_inner, found.sky_outer) == (50, 51)

import tides


def test_heights_are_above_the_datum():
    assert tides.above(412, 2412) == 2000


def test_a_dry_gauge_reads_nothing():
    assert tides.above(412, None) is None

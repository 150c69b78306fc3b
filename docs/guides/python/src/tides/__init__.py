"""Heights above a station's datum."""


def above(datum, reading):
    """The height in millimetres; a gauge that is out of the water reads nothing."""
    if reading is None:
        return None
    return reading - datum

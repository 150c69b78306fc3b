#include "gauge.h"

/* The weight of a new sample: waves of a few seconds are smoothed away, tides are not. */
static const double WEIGHT = 0.2;

void gauge_start(struct gauge *gauge, double datum, double drift)
{
    gauge->datum = datum;
    gauge->drift = drift;
    gauge->last = 0.0;
    gauge->samples = 0;
}

double gauge_height(const struct gauge *gauge, double reading, double days)
{
    return reading - gauge->datum - gauge->drift * days;
}

double gauge_take(struct gauge *gauge, double reading, double days)
{
    double height = gauge_height(gauge, reading, days);
    gauge->last = gauge->samples++ ? gauge->last + WEIGHT * (height - gauge->last) : height;
    return gauge->last;
}

/* What a tide gauge does with the pulses of its pressure sensor. Heights in millimetres above the station's datum. */
#ifndef GAUGE_H
#define GAUGE_H

struct gauge {
    double datum;   /* sensor reading at height zero */
    double drift;   /* what the sensor gains in a day, in millimetres */
    double last;    /* the last smoothed height */
    long   samples;
};

void   gauge_start(struct gauge *gauge, double datum, double drift);
double gauge_height(const struct gauge *gauge, double reading, double days);
double gauge_take(struct gauge *gauge, double reading, double days);

#endif

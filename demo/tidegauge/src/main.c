/* Reads "days reading" lines, prints smoothed heights: gauge DATUM DRIFT < readings */
#include "gauge.h"
#include <stdio.h>
#include <stdlib.h>

int main(int argc, char **argv)
{
    struct gauge gauge;
    double days, reading;
    if (argc != 3) {
        fprintf(stderr, "usage: gauge DATUM DRIFT < readings\n");
        return 2;
    }
    gauge_start(&gauge, atof(argv[1]), atof(argv[2]));
    while (scanf("%lf %lf", &days, &reading) == 2)
        printf("%.4f %.1f\n", days, gauge_take(&gauge, reading, days));
    return 0;
}

/* Prints what a sensor would read over some days: two tides a day, and a slow drift. simulator DAYS */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>

int main(int argc, char **argv)
{
    const double turn = 2.0 * 3.14159265358979;
    double days = argc > 1 ? atof(argv[1]) : 1.0;
    for (double at = 0.0; at < days; at += 1.0 / 96.0)
        printf("%.4f %.2f\n", at, 2400.0 + 1500.0 * sin(turn * at * 1.9323) + 300.0 * sin(turn * at * 2.0) + 0.5 * at);
    return 0;
}

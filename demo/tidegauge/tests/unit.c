/* Unit tests of the gauge; writes a JUnit report with --report FILE. */
#include "gauge.h"
#include <math.h>
#include <stdio.h>
#include <string.h>

static int failures, cases;
static char report[4096];

static void expect(const char *name, double got, double wanted)
{
    int good = fabs(got - wanted) < 0.001;
    char line[400];
    cases++;
    failures += !good;
    printf("%s %-32s got %10.3f, wanted %10.3f\n", good ? "ok  " : "FAIL", name, got, wanted);
    if (good)
        snprintf(line, sizeof line, "  <testcase classname=\"gauge\" name=\"%s\"/>\n", name);
    else
        snprintf(line, sizeof line,
                 "  <testcase classname=\"gauge\" name=\"%s\"><failure message=\"got %.3f, wanted %.3f\"/>"
                 "</testcase>\n",
                 name, got, wanted);
    strncat(report, line, sizeof report - strlen(report) - 1);
}

int main(int argc, char **argv)
{
    struct gauge gauge;
    gauge_start(&gauge, 100.0, 2.0);
    expect("height at the datum", gauge_height(&gauge, 100.0, 0.0), 0.0);
    expect("height above the datum", gauge_height(&gauge, 350.0, 0.0), 250.0);
    expect("drift is taken off once", gauge_height(&gauge, 110.0, 5.0), 0.0);
    expect("first sample is not smoothed", gauge_take(&gauge, 200.0, 0.0), 100.0);
    expect("second sample is smoothed", gauge_take(&gauge, 300.0, 0.0), 120.0);
    if (argc == 3 && !strcmp(argv[1], "--report")) {
        FILE *file = fopen(argv[2], "w");
        if (!file) {
            perror(argv[2]);
            return 2;
        }
        fprintf(file, "<testsuite name=\"gauge\" tests=\"%d\" failures=\"%d\">\n%s</testsuite>\n", cases, failures, report);
        fclose(file);
    }
    printf("%d of %d failed\n", failures, cases);
    return failures != 0;
}

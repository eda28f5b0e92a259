#include "tide.h"
#include "constituents.h"
#include <math.h>

#define MEAN_LEVEL 3.10     /* metres above the port's zero */

double tide_level(double hours)
{
    double level = MEAN_LEVEL;

    /* Each constituent is one wave; the tide is their sum. */
    for (int i = 0; i < CONSTITUENTS; i++) {
        double degrees = constituents[i].speed * hours - constituents[i].phase;

        level += constituents[i].amplitude * cos(degrees * (3.14159265358979323846 / 180.0));
    }
    return level;
}

int tide_constituents(void)
{
    return CONSTITUENTS;
}

/* Running mean and extremes of a series of readings. */
#ifndef SERIES_H
#define SERIES_H

struct series {
    long count;
    double mean, least, most;
};

void series_add(struct series *series, double value);

#endif

/* The tide at a port, and records of it. */
#ifndef TIDE_H
#define TIDE_H

#include <stdio.h>

struct tide_record {
    long number;        /* counts readings, from 1 */
    double level;       /* metres above the port's zero */
};

/* Height of the tide in metres, a number of hours after the port's epoch. */
double tide_level(double hours);

/* How many constituents the library's table holds. */
int tide_constituents(void);

/* Writes one record as a line. Returns 0, or -1 when it could not be written. */
int tide_write(FILE *file, const struct tide_record *record);

/* Reads the next record. Returns 1, 0 at the end, -1 for a line that is none. */
int tide_read(FILE *file, struct tide_record *record);

#endif

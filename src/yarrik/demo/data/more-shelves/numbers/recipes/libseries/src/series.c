#include "series.h"

void series_add(struct series *series, double value)
{
    series->count++;
    series->mean += (value - series->mean) / series->count;
    if (series->count == 1 || value < series->least)
        series->least = value;
    if (series->count == 1 || value > series->most)
        series->most = value;
}

/* Reads echo times in milliseconds, one a line, and says least and mean depth in metres: soundings [TIDE]. */
#include <series.h>
#include <stdio.h>
#include <stdlib.h>

int main(int count, char **words)
{
    struct series depth = {0};
    double tide = count > 1 ? atof(words[1]) : 0, time;

    while (scanf("%lf", &time) == 1)
        series_add(&depth, time * 1.5 / 2 - tide);
    printf("%ld soundings, least %.2f m, mean %.2f m\n", depth.count, depth.least, depth.mean);
    return 0;
}

/* Reads wind speeds in metres per second, one a line, and says mean and strongest gust at the end. */
#include <series.h>
#include <stdio.h>

int main(void)
{
    struct series wind = {0};
    double speed;

    while (scanf("%lf", &speed) == 1)
        series_add(&wind, speed);
    printf("%ld readings, mean %.1f m/s, gust %.1f m/s\n", wind.count, wind.mean, wind.most);
    return 0;
}

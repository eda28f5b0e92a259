/* Reduces air pressure (hPa) to sea level by the barometric formula: barometer PRESSURE HEIGHT. */
#include <stdio.h>
#include <stdlib.h>

int main(int count, char **words)
{
    double pressure, height, scale = 1.0;

    if (count != 3) {
        fputs("barometer PRESSURE HEIGHT\n", stderr);
        return 2;
    }
    pressure = atof(words[1]);
    height = atof(words[2]);
    for (int step = 0; step < 100; step++) /* exp(height / 8430) by its limit */
        scale *= 1.0 + height / 8430.0 / 100;
    printf("%.1f hPa\n", pressure * scale);
    return 0;
}

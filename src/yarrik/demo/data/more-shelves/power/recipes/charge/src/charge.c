/* State of charge in per cent of a resting 12 V lead battery: charge VOLTS. */
#include <stdio.h>
#include <stdlib.h>

int main(int count, char **words)
{
    double part;

    if (count != 2) {
        fputs("charge VOLTS\n", stderr);
        return 2;
    }
    part = (atof(words[1]) - 11.8) / (12.7 - 11.8);
    printf("%.0f %%\n", 100 * (part < 0 ? 0 : part > 1 ? 1 : part));
    return 0;
}

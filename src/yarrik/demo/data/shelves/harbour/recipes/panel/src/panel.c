/* The display beside the pier's gate: shows the chart, and the next one when somebody asks for it. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int main(int count, char **arguments)
{
    const char *device = count > 1 ? arguments[1] : "/run/panel/input";
    char word[32];
    int charts = 0;
    FILE *input = fopen(device, "r");

    if (!input) {
        perror(device);
        return 1;
    }
    while (fscanf(input, "%31s", word) == 1) {
        if (strcmp(word, "next") == 0)
            printf("chart %d\n", ++charts);
        else if (strcmp(word, "redraw") == 0 && system("tide-chart /run/panel/chart.png") != 0)
            fprintf(stderr, "the chart could not be drawn\n");
    }
    fclose(input);
    return 0;
}

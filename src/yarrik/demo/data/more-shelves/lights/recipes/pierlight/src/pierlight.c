/* Writes the rhythm of a light as it is on the chart, like `Fl(2)`: one line a second, on or off. */
#include <stdio.h>
#include <stdlib.h>

int main(int count, char **words)
{
    int flashes = count > 1 ? atoi(words[1]) : 1;
    int period = count > 2 ? atoi(words[2]) : 10;

    for (int second = 0; second < period; second++)
        puts(second % 2 == 0 && second / 2 < flashes ? "on" : "off");
    return 0;
}

/* tide-chart FILE [LOG]: draws the last readings of a tide log. */
#include <plot.h>
#include <stdio.h>
#include <tide.h>

enum { MOST = 512 };

int main(int count, char **arguments)
{
    const char *log = count > 2 ? arguments[2] : "/var/lib/tide/level.log";
    static double levels[MOST];
    struct tide_record record;
    int readings = 0, got;
    FILE *file;

    if (count < 2) {
        fprintf(stderr, "usage: tide-chart FILE.png|FILE.svg [LOG]\n");
        return 2;
    }
    file = fopen(log, "r");
    if (!file) {
        perror(log);
        return 1;
    }
    while ((got = tide_read(file, &record)) != 0)
        if (got > 0)
            levels[readings++ % MOST] = record.level;
    fclose(file);
    got = plot_write(arguments[1], levels, readings < MOST ? readings : MOST);
    if (got == -2)
        fprintf(stderr, "%s: the library was built without this form\n", arguments[1]);
    else if (got)
        perror(arguments[1]);
    else
        printf("%s: %d readings\n", arguments[1], readings);
    return got ? 1 : 0;
}

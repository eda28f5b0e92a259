/* tide [last|count|range] [FILE]: answers from a tide log. */
#include <stdio.h>
#include <string.h>
#include <tide.h>

int main(int count, char **arguments)
{
    const char *question = count > 1 ? arguments[1] : "last";
    const char *path = count > 2 ? arguments[2] : "/var/lib/tide/level.log";
    struct tide_record record, last = { 0, 0 };
    double lowest = 1e9, highest = -1e9;
    long records = 0;
    int got;
    FILE *file = fopen(path, "r");

    if (!file) {
        perror(path);
        return 1;
    }
    while ((got = tide_read(file, &record)) != 0) {
        if (got < 0)
            continue;
        last = record;
        records++;
        lowest = record.level < lowest ? record.level : lowest;
        highest = record.level > highest ? record.level : highest;
    }
    fclose(file);
    if (strcmp(question, "count") == 0)
        printf("%ld readings\n", records);
    else if (records == 0)
        printf("no readings yet\n");
    else if (strcmp(question, "range") == 0)
        printf("from %.3f m to %.3f m\n", lowest, highest);
    else if (strcmp(question, "last") == 0)
        printf("reading %ld: %.3f m\n", last.number, last.level);
    else {
        fprintf(stderr, "usage: tide [last|count|range] [FILE]\n");
        return 2;
    }
    return 0;
}

/* tidelog [--every SECONDS] [--count N] FILE: reads the gauge again and again and appends each level to FILE.
   There is no gauge in an emulator, so the sensor is simulated: the computed tide, and a little noise of waves.
   Readings are numbered; after a restart the numbers go on where the file ends. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <tide.h>
#include <unistd.h>

#define HOURS_A_READING 0.1

/* Waves: a few centimetres, the same for the same reading, so that logs can be compared. */
static double waves(long number)
{
    unsigned long mixed = (unsigned long)number * 2654435761UL;

    return (double)(mixed >> 8 & 1023) / 1023.0 * 0.06 - 0.03;
}

static double read_sensor(long number)
{
    return tide_level((double)number * HOURS_A_READING) + waves(number);
}

static long last_number(const char *path)
{
    struct tide_record record;
    long last = 0;
    FILE *file = fopen(path, "r");

    while (file) {
        int got = tide_read(file, &record);

        if (got == 0)
            break;
        if (got == 1 && record.number > last)
            last = record.number;
    }
    if (file)
        fclose(file);
    return last;
}

int main(int count, char **arguments)
{
    const char *path = NULL;
    unsigned every = 1;
    long most = -1, number;
    FILE *log;

    for (int i = 1; i < count; i++) {
        if (strcmp(arguments[i], "--every") == 0 && i + 1 < count)
            every = (unsigned)atoi(arguments[++i]);
        else if (strcmp(arguments[i], "--count") == 0 && i + 1 < count)
            most = atol(arguments[++i]);
        else
            path = arguments[i];
    }
    if (!path) {
        fprintf(stderr, "usage: tidelog [--every SECONDS] [--count N] FILE\n");
        return 2;
    }
    number = last_number(path);
    log = fopen(path, "a");
    if (!log) {
        perror(path);
        return 1;
    }
    printf("tidelog: recording to %s, from reading %ld on\n", path, number + 1);
    fflush(stdout);
    for (long done = 0; done != most; done++) {
        struct tide_record record = { ++number, 0 };

        record.level = read_sensor(number);
        if (tide_write(log, &record) != 0 || fsync(fileno(log)) != 0) {
            perror(path);
            return 1;
        }
        sleep(every);
    }
    return fclose(log) == 0 ? 0 : 1;
}

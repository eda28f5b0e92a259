#include "tide.h"

int tide_write(FILE *file, const struct tide_record *record)
{
    return fprintf(file, "%ld %.3f\n", record->number, record->level) > 0 && fflush(file) == 0 ? 0 : -1;
}

int tide_read(FILE *file, struct tide_record *record)
{
    char line[128];

    if (!fgets(line, sizeof line, file))
        return 0;
    return sscanf(line, "%ld %lf", &record->number, &record->level) == 2 ? 1 : -1;
}

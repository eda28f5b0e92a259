/* Lines, paths and files: what init and first-boot have in common. */
#define _GNU_SOURCE
#include <ctype.h>
#include <errno.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>

#include "init.h"

long long now(void)
{
    struct timespec time;

    clock_gettime(CLOCK_MONOTONIC, &time);
    return time.tv_sec * 1000LL + time.tv_nsec / 1000000;
}

char *value_of(char *line, const char *key)
{
    size_t length = strlen(key);
    char *end;

    if (strncmp(line, key, length) != 0)
        return NULL;
    line += length;
    line += strspn(line, " \t");
    if (*line != '=')
        return NULL;
    line += 1;
    line += strspn(line, " \t");
    end = line + strcspn(line, "\n");
    while (end > line && isspace((unsigned char)end[-1]))
        end--;
    *end = 0;
    return line;
}

int make_path(const char *path, unsigned mode)
{
    char part[512];

    if ((size_t)snprintf(part, sizeof part, "%s", path) >= sizeof part) {
        errno = ENAMETOOLONG;
        return -1;
    }
    for (char *slash = strchr(part + 1, '/'); slash; slash = strchr(slash + 1, '/')) {
        *slash = 0;
        if (mkdir(part, 0755) != 0 && errno != EEXIST)
            return -1;
        *slash = '/';
    }
    return mkdir(part, mode) == 0 || errno == EEXIST ? 0 : -1;
}

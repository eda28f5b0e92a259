/* pier report LOG REPORT   keeps the last level of LOG in REPORT, for ever
   pier beacon              says that the gauge is alive
   pier key FILE            makes the gauge's own key, once */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <unistd.h>

static const char *setting(const char *name, const char *otherwise)
{
    const char *value = getenv(name);

    return value && *value ? value : otherwise;
}

static int report(const char *log, const char *place)
{
    char line[200], last[200] = "none", fresh[300];
    int seconds = atoi(setting("INTERVAL", "1"));

    for (;;) {
        FILE *file = fopen(log, "r");

        while (file && fgets(line, sizeof line, file))
            if (line[strlen(line) - 1] == '\n')
                memcpy(last, line, sizeof last);
        if (file)
            fclose(file);
        else
            perror(log);
        last[strcspn(last, "\n")] = 0;
        snprintf(fresh, sizeof fresh, "%s.new", place);
        file = fopen(fresh, "w");
        if (!file || fprintf(file, "station %s: %s\n", setting("STATION", "unknown"), last) < 0 || fclose(file) != 0 ||
            rename(fresh, place) != 0) {
            perror(place);
            return 1;
        }
        sleep(seconds > 0 ? (unsigned)seconds : 1);
    }
}

static int key(const char *place)
{
    unsigned char bytes[32];
    FILE *file;

    umask(077);
    file = fopen(place, "w");
    if (!file || getrandom(bytes, sizeof bytes, 0) != sizeof bytes) {
        perror(place);
        return 1;
    }
    for (size_t i = 0; i < sizeof bytes; i++)
        fprintf(file, "%02x", bytes[i]);
    return fputc('\n', file) == '\n' && fclose(file) == 0 ? 0 : 1;
}

int main(int count, char **words)
{
    if (count == 4 && strcmp(words[1], "report") == 0)
        return report(words[2], words[3]);
    if (count == 3 && strcmp(words[1], "key") == 0)
        return key(words[2]);
    if (count == 2 && strcmp(words[1], "beacon") == 0)
        return printf("station %s is alive\n", setting("STATION", "unknown")) < 0;
    fprintf(stderr, "usage: pier report LOG REPORT | beacon | key FILE\n");
    return 2;
}

/* There is no radio in the emulator. This reads the file that a real program would, and waits. */
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

int main(int count, char **words)
{
    char line[300], name[300] = "none";
    int secret = 0;
    struct stat status;
    FILE *file;

    if (count != 5 || strcmp(words[1], "-i") != 0 || strcmp(words[3], "-c") != 0)
        return fprintf(stderr, "usage: wpa_supplicant -i INTERFACE -c FILE\n") > 0;
    file = fopen(words[4], "r");
    if (!file || fstat(fileno(file), &status) != 0) {
        perror(words[4]);
        return 1;
    }
    while (fgets(line, sizeof line, file)) {
        char *key = line + strspn(line, " \t");

        if (strncmp(key, "ssid=", 5) == 0)
            snprintf(name, sizeof name, "%.*s", (int)strcspn(key + 5, "\n"), key + 5);
        secret = secret || strncmp(key, "psk=", 4) == 0;
    }
    fclose(file);
    printf("radio: %s would join %s %s; its file has the mode %o\n", words[2], name, secret ? "with a key" : "without a key",
           (unsigned)(status.st_mode & 07777));
    fflush(stdout);
    for (;;)
        pause();
}

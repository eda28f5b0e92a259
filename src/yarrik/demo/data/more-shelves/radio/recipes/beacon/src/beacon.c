/* Puts a checksum at the end of each line, or takes lines with a right one only: beacon [-c]. */
#include <stdio.h>
#include <string.h>

static unsigned sum_of(const char *text, size_t length)
{
    unsigned sum = 0;

    for (size_t at = 0; at < length; at++)
        sum = (sum << 1 ^ (unsigned char)text[at]) & 0xffff;
    return sum;
}

int main(int count, char **words)
{
    char line[512];
    int check = count > 1 && strcmp(words[1], "-c") == 0;

    while (fgets(line, sizeof line, stdin)) {
        size_t length = strcspn(line, "\n");
        unsigned found;

        line[length] = 0;
        if (!check)
            printf("%s*%04x\n", line, sum_of(line, length));
        else if (length > 5 && sscanf(line + length - 4, "%4x", &found) == 1 && found == sum_of(line, length - 5))
            printf("%.*s\n", (int)(length - 5), line);
    }
    return 0;
}

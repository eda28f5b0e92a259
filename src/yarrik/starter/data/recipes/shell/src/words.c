#include "shell.h"
#include <string.h>

static int operator_length(const char *at)
{
    if (strncmp(at, "&&", 2) == 0 || strncmp(at, ">>", 2) == 0)
        return 2;
    return *at && strchr(";|<>", *at) ? 1 : 0;
}

int cut_words(const char *line, char *buffer, int size, char **words, char *is_operator)
{
    int count = 0;
    char *out = buffer, *end = buffer + size - 1;

    for (;;) {
        int length;

        line += strspn(line, " \t\r\n");
        if (!*line || *line == '#' || count == MAX_WORDS)
            return count;
        words[count] = out;
        length = operator_length(line);
        is_operator[count] = length > 0;
        if (length) {
            if (out + length >= end)
                return count;
            memcpy(out, line, length);
            out += length;
            line += length;
        }
        while (!length && *line && !strchr(" \t\r\n", *line) && !operator_length(line)) {
            char quote = 0;

            if (*line == '\'' || *line == '"') {
                quote = *line++;
                while (*line && *line != quote && out < end) {
                    if (quote == '"' && *line == '\\' && line[1])
                        line++;
                    *out++ = *line++;
                }
                if (*line++ != quote)
                    return -1;
            } else {
                if (*line == '\\' && line[1])
                    line++;
                if (out < end)
                    *out++ = *line;
                line++;
            }
        }
        if (out >= end)
            return count;
        *out++ = 0;
        count++;
    }
}

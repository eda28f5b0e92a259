/* The settings file on the card, which a person may have edited: lines KEY = VALUE, checked against what was declared. */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "first-boot.h"
#include "init.h"

#define LARGEST_FILE (64 * 1024)

struct setting settings[MOST_SETTINGS];
int setting_count;

int read_setting_line(char *line)
{
    struct setting *last = setting_count ? &settings[setting_count - 1] : NULL;
    char *value;

    if ((value = value_of(line, "setting"))) {
        if (setting_count < MOST_SETTINGS) {
            last = &settings[setting_count++];
            if (sscanf(value, "%63s %15s", last->name, last->kind) != 2)
                setting_count--;
        }
    } else if (last && (value = value_of(line, "usual")))
        snprintf(last->usual, sizeof last->usual, "%s", value);
    else if (last && (value = value_of(line, "letters")))
        snprintf(last->letters, sizeof last->letters, "%s", value);
    else if (last && (value = value_of(line, "range")))
        last->bounded = sscanf(value, "%lld %lld", &last->least, &last->most) == 2;
    else if (last && (value = value_of(line, "longest")))
        last->most = atoll(value);
    else if (last && (value = value_of(line, "choice"))) {
        if (last->choice_count < (int)(sizeof last->choices / sizeof *last->choices))
            last->choices[last->choice_count++] = strdup(value);
    } else if (last && (value = value_of(line, "secret")))
        last->secret = strcmp(value, "yes") == 0;
    else
        return 0;
    return 1;
}

static const char *unfit_number(const struct setting *one, const char *value)
{
    const char *digits = value + (*value == '-');
    long long number;

    if (!*digits || strspn(digits, "0123456789") != strlen(digits))
        return "it is not a whole number";
    errno = 0;
    number = strtoll(value, NULL, 10);
    if (errno || (one->bounded && (number < one->least || number > one->most)))
        return "it is out of range";
    return NULL;
}

/* Bytes of UTF-8 that do not begin a character are not counted. */
static size_t characters(const char *text)
{
    size_t count = 0;

    for (; *text; text++)
        count += ((unsigned char)*text & 0xC0) != 0x80;
    return count;
}

const char *unfit(const struct setting *one, const char *value)
{
    unsigned char address[16];

    if (strlen(value) > LONGEST_VALUE)
        return "it is too long";
    for (const char *c = value; *c; c++)
        if ((unsigned char)*c < 32 || *c == 127)
            return "it has a control character";
    if (strcmp(one->kind, "number") == 0)
        return unfit_number(one, value);
    if (strcmp(one->kind, "switch") == 0)
        return strcmp(value, "yes") == 0 || strcmp(value, "no") == 0 ? NULL : "it is neither yes nor no";
    if (strcmp(one->kind, "address") == 0)
        return inet_pton(AF_INET, value, address) == 1 || inet_pton(AF_INET6, value, address) == 1 ? NULL
                                                                                                   : "it is not an IP address";
    if (strcmp(one->kind, "choice") == 0) {
        for (int i = 0; i < one->choice_count; i++)
            if (strcmp(one->choices[i], value) == 0)
                return NULL;
        return "it is none of the choices";
    }
    if (one->most && characters(value) > (size_t)one->most)
        return "it is too long";
    if (one->letters[0] && value[strspn(value, one->letters)])
        return "it has a letter that is not allowed";
    return NULL;
}

static struct setting *named(const char *name)
{
    for (int i = 0; i < setting_count; i++)
        if (strcmp(settings[i].name, name) == 0)
            return &settings[i];
    return NULL;
}

static char *trimmed(char *text)
{
    char *end = text + strlen(text);

    text += strspn(text, " \t\r");
    while (end > text && strchr(" \t\r", end[-1]))
        *--end = 0;
    return text;
}

/* Returns 0, or -1 for a line that cannot be. */
static int take_line(const char *file, int number, char *line)
{
    struct setting *one;
    char *value;
    const char *why;

    line = trimmed(line);
    if (!*line || *line == '#')
        return 0;
    value = strchr(line, '=');
    if (!value) {
        say("%s, line %d: it is not KEY = VALUE", file, number);
        return -1;
    }
    *value++ = 0;
    line = trimmed(line);
    value = trimmed(value);
    one = named(line);
    if (!one) {
        say("%s, line %d: there is no setting `%.63s`", file, number, line);
        return -1;
    }
    why = unfit(one, value);
    if (why) {
        say("%s, line %d: `%s` cannot be `%s`: %s", file, number, one->name, one->secret ? "…" : value, why);
        return -1;
    }
    snprintf(one->value, sizeof one->value, "%s", value);
    return 0;
}

/* Like /etc/environment: NAME="VALUE", as shells and service managers read it. */
static size_t written(char *text, size_t room)
{
    size_t size = 0;

    for (int i = 0; i < setting_count; i++) {
        for (const char *c = settings[i].name; *c && size + 8 < room; c++)
            text[size++] = *c == '-' || *c == '.' ? '_' : *c >= 'a' && *c <= 'z' ? (char)(*c - 'a' + 'A') : *c;
        text[size++] = '=';
        text[size++] = '"';
        for (const char *c = settings[i].value; *c && size + 8 < room; c++) {
            if (strchr("\"$`\\", *c))
                text[size++] = '\\';
            text[size++] = *c;
        }
        text[size++] = '"';
        text[size++] = '\n';
    }
    text[size] = 0;
    return size;
}

static void as_built(void)
{
    for (int i = 0; i < setting_count; i++)
        memcpy(settings[i].value, settings[i].usual, sizeof settings[i].value);
}

/* Takes a file's lines, and cuts them up. Returns 0, or -1 when one of them cannot be; then some values are set. */
static int take_lines(const char *file, char *data)
{
    int number = 0, wrong = 0;
    char *line;

    if (strncmp(data, "\xEF\xBB\xBF", 3) == 0) /* a mark that some editors put there */
        data += 3;
    while ((line = strsep(&data, "\n")))
        wrong = take_line(file, ++number, line) != 0 || wrong;
    return wrong ? -1 : 0;
}

int take_settings(const char *file, const char *accepted, const char *kept)
{
    static char text[MOST_SETTINGS * (2 * LONGEST_VALUE + 80)];
    char *data = read_all(file, LARGEST_FILE), *copy = data ? strdup(data) : NULL, *before;
    int wrong = !data && errno != ENOENT, secret = 0;
    size_t size;

    if (wrong)
        say("cannot read %s: %s", file, strerror(errno));
    for (int i = 0; i < setting_count; i++)
        secret = secret || settings[i].secret;
    as_built();
    if (data && take_lines(file, data) != 0)
        wrong = 1;
    if (wrong || !data) { /* what was right the last time still holds */
        char *last = read_all(accepted, LARGEST_FILE);

        if (wrong)
            say("nothing of %s is taken in; %s", file, last ? "the settings of before stay" : "settings are as built");
        as_built();
        if (last && take_lines(accepted, last) != 0)
            as_built();
        free(last);
    }
    size = written(text, sizeof text);
    before = read_all(kept, sizeof text);
    if (!before || strcmp(before, text) != 0) {
        if ((copy && !wrong && write_safely(accepted, copy, strlen(copy), 0600) != 0) ||
            write_safely(kept, text, size, secret ? 0600 : 0644) != 0) {
            say("cannot write %s: %s", kept, strerror(errno));
            wrong = 1;
        } else if (copy && !wrong)
            say("settings of %s are taken in", file);
    }
    free(before);
    free(copy);
    free(data);
    return wrong ? -1 : 0;
}

/* Texts, bytes, and what is said on the console. */
#include <stdarg.h>

#include "updater.h"

size_t length_of(const char *text)
{
    size_t length = 0;

    while (text[length])
        length++;
    return length;
}

int same_text(const char *one, const char *other)
{
    while (*one && *one == *other)
        one++, other++;
    return *one == *other;
}

int begins(const char *text, const char *with)
{
    while (*with)
        if (*text++ != *with++)
            return 0;
    return 1;
}

/* A decimal number of at most 18 digits; `text` is behind it then. */
int number_in(const char **text, uint64_t *value)
{
    const char *at = *text;
    int digits = 0;

    *value = 0;
    for (; *at >= '0' && *at <= '9'; at++) {
        if (++digits > 18)
            return -1;
        *value = *value * 10 + (uint64_t)(*at - '0');
    }
    *text = at;
    return digits ? 0 : -1;
}

void copy_bytes(void *to, const void *from, size_t size)
{
    unsigned char *out = to;
    const unsigned char *in = from;

    for (; size >= sizeof(uint64_t); size -= sizeof(uint64_t), in += sizeof(uint64_t), out += sizeof(uint64_t)) {
        uint64_t word = word_at(in);

        __builtin_memcpy(out, &word, sizeof word);
    }
    while (size--)
        *out++ = *in++;
}

void clear_bytes(void *to, size_t size)
{
    unsigned char *out = to;

    while (size--)
        *out++ = 0;
}

int same_bytes(const void *one, const void *other, size_t size)
{
    const unsigned char *a = one, *b = other;

    for (; size >= sizeof(uint64_t); size -= sizeof(uint64_t), a += sizeof(uint64_t), b += sizeof(uint64_t))
        if (word_at(a) != word_at(b))
            return 0;
    while (size--)
        if (*a++ != *b++)
            return 0;
    return 1;
}

int all_zero(const uint8_t *data, size_t size)
{
    for (; size >= sizeof(uint64_t); size -= sizeof(uint64_t), data += sizeof(uint64_t))
        if (word_at(data))
            return 0;
    while (size--)
        if (*data++)
            return 0;
    return 1;
}

uint64_t little(const uint8_t *from, int bytes)
{
    uint64_t value = 0;

    while (bytes--)
        value = value << 8 | from[bytes];
    return value;
}

/* Where all is shown beside the console, such as a display; 0 or less for nowhere. */
int screen;

/* Adds a text, of which nothing may steer a terminal. */
static size_t add(char *line, size_t at, size_t size, const char *text)
{
    for (; *text && at < size; text++)
        line[at++] = *text >= ' ' && *text <= '~' ? *text : '?';
    return at;
}

/* %s is a text, %u a uint64_t. */
static void compose(const char *begin, const char *text, va_list values)
{
    char line[400];
    size_t at = add(line, 0, sizeof line - 1, begin);

    for (; *text && at < sizeof line - 1; text++) {
        if (*text != '%') {
            line[at++] = *text;
        } else if (*++text == 's') {
            at = add(line, at, sizeof line - 1, va_arg(values, const char *));
        } else {
            char digits[21];
            int count = 20;
            uint64_t value = va_arg(values, uint64_t);

            digits[count] = 0;
            do
                digits[--count] = (char)('0' + value % 10);
            while (value /= 10);
            at = add(line, at, sizeof line - 1, digits + count);
        }
    }
    line[at++] = '\n';
    sys_write(2, line, at);
    if (screen > 0)
        sys_write(screen, line, at);
}

void say(const char *text, ...)
{
    va_list values;

    va_start(values, text);
    compose("updater: ", text, values);
    va_end(values);
}

/* Says why something is not done; -1. */
int fail(const char *text, ...)
{
    va_list values;

    va_start(values, text);
    compose("updater: error: ", text, values);
    va_end(values);
    return -1;
}

/* A text file of less than `size` bytes, with a zero at its end. */
long read_file(const char *path, char *to, size_t size)
{
    size_t have = 0;
    int file = sys_open(path, 0);

    if (file < 0)
        return -1;
    while (have < size) {
        long got = sys_read(file, to + have, size - have);

        if (got <= 0)
            break;
        have += (size_t)got;
    }
    sys_close(file);
    if (have == size)
        return -1;
    to[have] = 0;
    return (long)have;
}

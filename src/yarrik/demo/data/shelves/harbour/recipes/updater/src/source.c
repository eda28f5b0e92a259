/* An update's bytes: of a file, or from a server by HTTP (RFC 9110), where a broken connection is taken up again by a range. */
#include "updater.h"

enum { MOST_HEAD = 8192, SKIP = 64 * 1024, TURNS = 8 };

static uint8_t room[MOST_HEAD];
static size_t begin, end; /* of what came with a head and was not read yet */

static int digits(char *to, uint64_t value)
{
    char text[21];
    int count = 0, at = 0;

    do
        text[count++] = (char)('0' + value % 10);
    while (value /= 10);
    while (count)
        to[at++] = text[--count];
    to[at] = 0;
    return at;
}

/* http://ADDRESS[:PORT]/PATH, where the address is one of IPv4: boards often have no resolver. */
static int address_of(struct source *source, const char *name)
{
    const char *at = name + 7;
    uint64_t value, port = 80;
    size_t length = 0;

    for (int part = 0; part < 4; part++) {
        if (number_in(&at, &value) < 0 || value > 255 || (part < 3 && *at++ != '.'))
            return fail("%s: the server is named by an IPv4 address", name);
        source->address = source->address << 8 | (uint32_t)value;
    }
    if (*at == ':') {
        at++;
        if (number_in(&at, &port) < 0 || !port || port > 65535)
            return fail("%s: the port is none", name);
    }
    source->port = (uint16_t)port;
    if (*at != '/' || length_of(at) >= sizeof source->path || (size_t)(at - name - 7) >= sizeof source->host)
        return fail("%s names no file of a server", name);
    for (const char *c = at; *c; c++)
        if (*c <= ' ' || *c > '~')
            return fail("the address has a character that none may have");
    copy_bytes(source->host, name + 7, (size_t)(at - name - 7));
    for (; at[length]; length++)
        source->path[length] = at[length];
    source->path[length] = 0;
    return 0;
}

static int put(int file, const char *text)
{
    size_t left = length_of(text);

    while (left) {
        long done = sys_write(file, text, left);

        if (done <= 0)
            return -1;
        text += done;
        left -= (size_t)done;
    }
    return 0;
}

static int lower(int c)
{
    return c >= 'A' && c <= 'Z' ? c + 32 : c;
}

/* The value of a field of the head in `room`, or an empty text. */
static const char *field(const char *name)
{
    for (const char *at = (const char *)room; *at; at++) {
        size_t i = 0;

        if (*at != '\n')
            continue;
        while (name[i] && lower(at[1 + i]) == name[i])
            i++;
        if (!name[i] && at[1 + i] == ':') {
            at += i + 2;
            while (*at == ' ')
                at++;
            return at;
        }
    }
    return "";
}

/* Asks for all from `at` on. 0 when bytes follow, 1 when it may be tried again, -1 when the server has none. */
static int ask(struct source *source, uint64_t at)
{
    char number[24];
    uint64_t first;
    const char *range, *status;

    begin = end = 0;
    source->file = sys_connect(source->address, source->port);
    if (source->file < 0)
        return 1;
    digits(number, at);
    if (put(source->file, "GET ") < 0 || put(source->file, source->path) < 0 || put(source->file, " HTTP/1.1\r\nHost: ") < 0 ||
        put(source->file, source->host) < 0 || put(source->file, "\r\nConnection: close\r\nRange: bytes=") < 0 ||
        put(source->file, number) < 0 || put(source->file, "-\r\n\r\n") < 0)
        return 1;
    for (size_t have = 0;;) {
        long got = have < sizeof room - 1 ? sys_read(source->file, room + have, sizeof room - 1 - have) : 0;
        size_t i;

        if (got <= 0)
            return 1;
        have += (size_t)got;
        for (i = 0; i + 3 < have && !same_bytes(room + i, "\r\n\r\n", 4); i++)
            ;
        if (i + 3 < have) {
            begin = i + 4;
            end = have;
            break;
        }
    }
    room[begin - 1] = 0; /* the head is a text now */
    if (length_of((char *)room) != begin - 1)
        return fail("the server's answer is none of HTTP");
    status = (const char *)room;
    if (!begins(status, "HTTP/1.") || length_of(status) < 12)
        return fail("the server's answer is none of HTTP");
    status += 9;
    source->at = at;
    if (begins(status, "206")) {
        range = field("content-range");
        if (!begins(range, "bytes "))
            return fail("the server's answer does not say which part it is");
        range += 6;
        if (number_in(&range, &first) < 0 || first != at)
            return fail("the server sent another part than was asked for");
    } else if (begins(status, "200")) {
        source->at = 0; /* a server without ranges sends all */
    } else if (status[0] == '5') {
        return 1;
    } else {
        return fail("the server has no such file: it answers %s", status);
    }
    if (*field("transfer-encoding"))
        return fail("the server sends it in a form that is not known here");
    return 0;
}

int source_open(struct source *source, const char *name)
{
    clear_bytes(source, sizeof *source);
    source->file = -1;
    if (begins(name, "http://")) {
        source->by_http = 1;
        return address_of(source, name);
    }
    if (begins(name, "partition:")) { /* of the disk that the root filesystem is on */
        char disk[64];

        if (root_disk(disk, sizeof disk) < 0)
            return fail("it is not clear which disk the root filesystem is on");
        source->file = sys_open(disk, READING);
        return source->file < 0 ? fail("%s cannot be opened", disk) : partition_named(source->file, name + 10, &source->base);
    }
    source->file = sys_open(name, READING);
    return source->file < 0 ? fail("%s cannot be opened", name) : 0;
}

static long some(struct source *source, uint8_t *to, size_t size)
{
    if (begin < end) {
        size_t part = end - begin < size ? end - begin : size;

        copy_bytes(to, room + begin, part);
        begin += part;
        return (long)part;
    }
    return sys_read(source->file, to, size);
}

/* `size` bytes from `at` on, which is never before what was read already. */
int source_read(struct source *source, uint64_t at, uint8_t *to, size_t size)
{
    static uint8_t waste[4096];
    uint64_t wanted = at;
    int turns = 0;

    while (size) {
        long got;

        if (!source->by_http && (source->at != wanted || !wanted)) {
            if (sys_seek(source->file, (int64_t)(source->base + wanted)) < 0)
                return fail("the update is cut short");
            source->at = wanted;
        }
        if (source->by_http && (source->file < 0 || wanted < source->at || wanted - source->at > SKIP)) {
            int answer;

            source_close(source);
            if (turns)
                sys_sleep((unsigned)turns);
            answer = ask(source, wanted);
            if (answer < 0)
                return -1;
            if (answer > 0) {
                source_close(source);
                if (++turns == TURNS)
                    return fail("the server does not answer");
                continue;
            }
        }
        if (source->at < wanted) {
            uint64_t skipped = wanted - source->at;

            got = some(source, waste, skipped < sizeof waste ? (size_t)skipped : sizeof waste);
        } else {
            got = some(source, to, size);
            if (got > 0) {
                to += got;
                size -= (size_t)got;
                wanted += (uint64_t)got;
                turns = 0;
            }
        }
        if (got > 0) {
            source->at += (uint64_t)got;
        } else if (!source->by_http) {
            return fail("the update is cut short");
        } else {
            source_close(source);
            if (++turns == TURNS)
                return fail("the server does not send the rest");
        }
    }
    return 0;
}

void source_close(struct source *source)
{
    if (source->file >= 0)
        sys_close(source->file);
    source->file = -1;
    begin = end = 0;
}

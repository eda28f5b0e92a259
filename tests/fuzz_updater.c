/* Feeds changed updates and frames to the board's program, in one process, which the sanitizers watch.

   bundles BUNDLE DISK SLOTS KEYS COUNT SEED: each change has to be refused. frames COUNT SEED: frames from the standard input
   (lengths of dictionary, content and frame as 32-bit numbers, then all three), as they are and changed. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "updater.h"

static uint64_t seed;

static uint32_t chance(uint32_t below)
{
    seed ^= seed << 13;
    seed ^= seed >> 7;
    seed ^= seed << 17;
    return (uint32_t)((seed >> 11) % below);
}

static void change(uint8_t *data, size_t *size, size_t only)
{
    size_t room = only ? only : *size;

    for (unsigned i = 0, count = 1 + chance(3); i < count; i++) {
        switch (chance(4)) {
        case 0:
            data[chance((uint32_t)room)] ^= (uint8_t)(1 << chance(8));
            break;
        case 1:
            data[chance((uint32_t)room)] = (uint8_t)chance(256);
            break;
        case 2: { /* a number of 32 bits at its ends */
            static const uint32_t ENDS[] = {0, 1, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, 0x40000};
            size_t at = chance((uint32_t)room);

            memcpy(data + at, &ENDS[chance(6)], at + 4 <= room ? 4 : room - at);
            break;
        }
        default:
            if (!only && *size > 1)
                *size = room = 1 + chance((uint32_t)*size - 1);
            else
                data[chance((uint32_t)room)]++;
        }
    }
}

static uint8_t *whole(const char *path, size_t *size)
{
    FILE *file = strcmp(path, "-") ? fopen(path, "rb") : stdin;
    uint8_t *data = malloc(64 << 20);

    *size = fread(data, 1, 64 << 20, file);
    if (file != stdin)
        fclose(file);
    return data;
}

static int bundles(char **words)
{
    static struct keys keys;
    static struct disk disk;
    static char text[4096];
    static uint8_t noise[SECTOR];
    size_t size, head;
    uint8_t *data = whole(words[0], &size), *copy = malloc(size);
    long accepted = 0, count = atol(words[4]);
    char path[] = "/tmp/updater-fuzz-XXXXXX";
    int file = mkstemp(path);

    seed = strtoull(words[5], NULL, 10) * 0x9E3779B97F4A7C15u + 1;
    memset(noise, 0xA5, sizeof noise);
    read_file(words[3], text, sizeof text);
    read_keys(&keys, text);
    head = 32 + (size_t)little(data + 16, 4) + (size_t)little(data + 20, 4);
    for (long i = 0; i < count; i++) {
        size_t now = size;
        struct source source;

        memcpy(copy, data, size);
        change(copy, &now, i % 3 ? 0 : head); /* a third of them where the description and its signature are */
        if (now == size && !memcmp(copy, data, size))
            continue;
        if (ftruncate(file, 0) < 0 || pwrite(file, copy, now, 0) != (ssize_t)now)
            return 2;
        if (disk_open(&disk, words[1], words[2], "", 1) < 0 || source_open(&source, path) < 0)
            return 2;
        /* Nothing is right already, so that all of the update counts. */
        for (uint64_t at = 0; at < disk.other->size; at += sizeof noise)
            disk_write(&disk, disk.other->begin + at, noise, sizeof noise);
        accepted += apply(&disk, &source, &keys) == 0;
        source_close(&source);
        sys_close(disk.file);
    }
    unlink(path);
    free(data), free(copy);
    printf("%ld accepted of %ld\n", accepted, count);
    return accepted != 0;
}

static int frames(char **words)
{
    static uint8_t made[2 * LONGEST], copy[LONGEST * 2];
    size_t size, at = 0;
    uint8_t *data = whole("-", &size);
    long count = atol(words[0]), good = 0, bad = 0, other = 0;

    seed = strtoull(words[1], NULL, 10) * 0x9E3779B97F4A7C15u + 1;
    while (at + 12 <= size) {
        size_t near = (size_t)little(data + at, 4), length = (size_t)little(data + at + 4, 4), packed = (size_t)little(data + at + 8, 4);
        const uint8_t *words_of = data + at + 12, *content = words_of + near, *frame = content + length;

        memcpy(made, words_of, near);
        if (zstd_frame(made, near, length, frame, packed) == 0 && !memcmp(made + near, content, length))
            good++;
        else
            bad++;
        for (long i = 0; i < count; i++) {
            size_t now = packed;
            uint8_t *exact;

            memcpy(copy, frame, packed);
            change(copy, &now, 0);
            exact = malloc(now); /* so that reading beyond its end is seen */
            memcpy(exact, copy, now);
            other += zstd_frame(made, near, length, exact, now) == 0;
            free(exact);
        }
        at += 12 + near + length + packed;
    }
    free(data);
    printf("%ld right, %ld wrong, %ld changed ones with some content\n", good, bad, other);
    return bad != 0;
}

int main(int count, char **words)
{
    if (count == 8 && !strcmp(words[1], "bundles"))
        return bundles(words + 2);
    if (count == 4 && !strcmp(words[1], "frames"))
        return frames(words + 2);
    return 2;
}

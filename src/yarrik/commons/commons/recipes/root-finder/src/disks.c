/* Disks, partition tables and filesystems as far as their names go.

   A disk may have been made to do harm: each length in it is held against what was read. Partition tables: UEFI
   specification 2.10, chapter 5; superblocks: the kernel's Documentation/filesystems/ext4/super.rst, squashfs.rst,
   erofs.rst; Microsoft's FAT specification of 2000, section "Boot Sector and BPB". */
#include <dirent.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <unistd.h>

#include "root-finder.h"

#define SYS_BLOCK "/sys/class/block"
#define MOST_ENTRIES 256
#define LARGEST_ENTRY 4096

static uint32_t le32(const uint8_t *p) { return p[0] | p[1] << 8 | p[2] << 16 | (uint32_t)p[3] << 24; }
static uint64_t le64(const uint8_t *p) { return le32(p) | (uint64_t)le32(p + 4) << 32; }

static uint32_t crc32(const uint8_t *data, size_t size, uint32_t crc)
{
    crc = ~crc;
    while (size--) {
        crc ^= *data++;
        for (int bit = 0; bit < 8; bit++)
            crc = crc >> 1 ^ (0xEDB88320 & -(crc & 1));
    }
    return ~crc;
}

/* A file of /sys with one line. */
static int line_of(const char *folder, const char *name, char *out, size_t room)
{
    char path[LONGEST];
    FILE *file;

    *out = 0;
    if (snprintf(path, sizeof path, SYS_BLOCK "/%s/%s", folder, name) >= (int)sizeof path || !(file = fopen(path, "re")))
        return 0;
    if (fgets(out, room, file))
        out[strcspn(out, "\n")] = 0;
    fclose(file);
    return *out != 0;
}

static long number_of(const char *folder, const char *name, long otherwise)
{
    char text[32];

    return line_of(folder, name, text, sizeof text) ? strtol(text, NULL, 10) : otherwise;
}

/* The first block of a GUID partition entry is little-endian in its first three parts. */
static void guid_text(const uint8_t *g, char *out)
{
    sprintf(out, "%02x%02x%02x%02x-%02x%02x-%02x%02x-%02x%02x-%02x%02x%02x%02x%02x%02x", g[3], g[2], g[1], g[0], g[5], g[4], g[7],
            g[6], g[8], g[9], g[10], g[11], g[12], g[13], g[14], g[15]);
}

static void uuid_text(const uint8_t *u, char *out)
{
    for (int i = 0; i < 16; i++)
        out += sprintf(out, i == 4 || i == 6 || i == 8 || i == 10 ? "-%02x" : "%02x", u[i]);
}

/* A fixed field of a superblock as text: control characters end it. */
static void field_text(const uint8_t *from, size_t size, char *out)
{
    size_t n = 0;

    while (n < size && from[n] >= ' ' && from[n] != 127) {
        out[n] = (char)from[n];
        n++;
    }
    while (n && out[n - 1] == ' ')
        n--;
    out[n] = 0;
}

/* Looks a partition up in its disk's table. */
static void of_table(int disk, long block, int number, struct device *device)
{
    uint8_t first[512], header[512], entry[LARGEST_ENTRY];
    uint32_t count, size, crc = 0;
    uint64_t at;

    if (pread(disk, first, sizeof first, 0) != sizeof first || first[510] != 0x55 || first[511] != 0xAA)
        return;
    if (pread(disk, header, sizeof header, block) != sizeof header || memcmp(header, "EFI PART", 8)) {
        sprintf(device->partition_id, "%08x-%02x", (unsigned)le32(first + 440), (unsigned)number & 0xFF);
        return;
    }
    size = le32(header + 12);
    if (size < 92 || size > sizeof header)
        return;
    count = le32(header + 16);
    memset(header + 16, 0, 4);
    if (crc32(header, size, 0) != count)
        return;
    at = le64(header + 72);
    count = le32(header + 80);
    size = le32(header + 84);
    if (size < 128 || size > LARGEST_ENTRY || count > MOST_ENTRIES || number < 1 || (uint32_t)number > count || at > UINT64_MAX / 65536)
        return;
    for (uint32_t i = 0; i < count; i++) {
        if (pread(disk, entry, size, (off_t)(at * block + (uint64_t)i * size)) != (ssize_t)size)
            return;
        crc = crc32(entry, size, crc);
        if (i + 1 != (uint32_t)number)
            continue;
        guid_text(entry + 16, device->partition_id);
        char *out = device->partition_name;
        for (int unit = 0; unit < 36; unit++) { /* UTF-16 to UTF-8; surrogates are no names of ours */
            unsigned c = entry[56 + 2 * unit] | entry[57 + 2 * unit] << 8;
            if (!c)
                break;
            if (c < 0x80)
                *out++ = c < ' ' || c == 127 ? '?' : (char)c;
            else if (c < 0x800)
                *out++ = (char)(0xC0 | c >> 6), *out++ = (char)(0x80 | (c & 63));
            else
                *out++ = (char)(0xE0 | c >> 12), *out++ = (char)(0x80 | (c >> 6 & 63)), *out++ = (char)(0x80 | (c & 63));
        }
        *out = 0;
    }
    if (crc != le32(header + 88)) /* the kernel does not take such a table either */
        *device->partition_id = *device->partition_name = 0;
}

/* What filesystem begins here. */
static void of_filesystem(int file, struct device *device)
{
    uint8_t b[2048];
    ssize_t size = pread(file, b, sizeof b, 0);

    if (size < (ssize_t)sizeof b)
        return;
    if (b[1080] == 0x53 && b[1081] == 0xEF) {
        uint32_t compatible = le32(b + 1116), needed = le32(b + 1120);
        strcpy(device->type, needed & ~0x6u ? "ext4" : compatible & 4 ? "ext3" : "ext2"); /* extents and later: ext4 */
        uuid_text(b + 1128, device->id);
        field_text(b + 1144, 16, device->label);
    } else if (!memcmp(b, "hsqs", 4)) {
        strcpy(device->type, "squashfs");
    } else if (le32(b + 1024) == 0xE0F5E1E2) {
        strcpy(device->type, "erofs");
        uuid_text(b + 1024 + 48, device->id);
        field_text(b + 1024 + 64, 16, device->label);
    } else if (le32(b + 1024) == 0xF2F52010) {
        strcpy(device->type, "f2fs");
        uuid_text(b + 1024 + 108, device->id);
    } else if (!memcmp(b, "XFSB", 4)) {
        strcpy(device->type, "xfs");
        uuid_text(b + 32, device->id);
        field_text(b + 108, 12, device->label);
    } else if (b[510] == 0x55 && b[511] == 0xAA && (!memcmp(b + 54, "FAT", 3) || !memcmp(b + 82, "FAT", 3))) {
        const uint8_t *extended = memcmp(b + 54, "FAT", 3) ? b + 67 : b + 39; /* BS_VolID */
        strcpy(device->type, "vfat");
        sprintf(device->id, "%02x%02x-%02x%02x", extended[3], extended[2], extended[1], extended[0]);
        field_text(extended + 4, 11, device->label);
    }
}

static int by_name(const void *a, const void *b) { return strcmp(((const struct device *)a)->name, ((const struct device *)b)->name); }

int find_devices(struct device *devices, int most)
{
    DIR *folder = opendir(SYS_BLOCK);
    struct dirent *entry;
    int found = 0;

    while (folder && found < most && (entry = readdir(folder))) {
        struct device *device = &devices[found];
        char path[LONGEST], link[LONGEST];
        int file, number;
        ssize_t length;

        if (entry->d_name[0] == '.' || strlen(entry->d_name) >= sizeof device->name || number_of(entry->d_name, "size", 0) < 8)
            continue;
        memset(device, 0, sizeof *device);
        strcpy(device->name, entry->d_name);
        for (char *c = device->name; *c; c++)
            if (*c == '!') /* sysfs cannot have a slash there */
                *c = '/';
        snprintf(path, sizeof path, "/dev/%s", device->name);
        if ((file = open(path, O_RDONLY | O_CLOEXEC)) < 0)
            continue;
        of_filesystem(file, device);
        close(file);
        found++;
        if (!(number = (int)number_of(entry->d_name, "partition", 0)))
            continue;
        /* /sys/class/block/NAME leads to …/DISK/NAME. */
        snprintf(path, sizeof path, SYS_BLOCK "/%s", entry->d_name);
        length = readlink(path, link, sizeof link - 1);
        if (length <= 0)
            continue;
        link[length] = 0;
        char *end = strrchr(link, '/'), *disk;
        if (!end)
            continue;
        *end = 0;
        disk = strrchr(link, '/');
        if (!disk || strlen(disk + 1) >= sizeof device->name)
            continue;
        long block = number_of(disk + 1, "queue/logical_block_size", 512);
        snprintf(path, sizeof path, "/dev/%.63s", disk + 1);
        for (char *c = path + 5; *c; c++)
            if (*c == '!')
                *c = '/';
        if (block < 512 || block > 65536 || (file = open(path, O_RDONLY | O_CLOEXEC)) < 0)
            continue;
        of_table(file, block, number, device);
        close(file);
    }
    if (folder)
        closedir(folder);
    qsort(devices, (size_t)found, sizeof *devices, by_name);
    return found;
}

int is_wanted(const struct device *device, const char *wanted)
{
    if (!strncmp(wanted, "PARTUUID=", 9))
        return *device->partition_id && !strcasecmp(device->partition_id, wanted + 9);
    if (!strncmp(wanted, "PARTLABEL=", 10))
        return *device->partition_name && !strcmp(device->partition_name, wanted + 10);
    if (!strncmp(wanted, "UUID=", 5))
        return *device->id && !strcasecmp(device->id, wanted + 5);
    if (!strncmp(wanted, "LABEL=", 6))
        return *device->label && !strcmp(device->label, wanted + 6);
    return !strcmp(device->name, strncmp(wanted, "/dev/", 5) ? wanted : wanted + 5);
}

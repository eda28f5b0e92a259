/* Moves the end of a disk's last partition, in the classic table and in a GUID partition table (UEFI specification, 5.3).

   A classic table is one sector. A GUID table is a header and entries in other sectors, with a checksum of these, and the kernel
   does not look at the backup when the primary one is damaged. So the new entries are never written over those that are in use:
   the backup goes to the disk's new end first; then the header is told that only the first half of the entries' room counts;
   the second half gets the new entries; the header, one sector, turns to them; the first half is written, and it turns back.
   A run that finds any state in between continues from there: the backup at the end says what is wanted. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "first-boot.h"

#define ALIGNMENT 4096
#define LARGEST_SECTOR 4096
#define MOST_ENTRY_BYTES (256 * 1024)

/* Offsets in a header and an entry. */
enum { HEADER_SIZE = 12, HEADER_CRC = 16, MY_LBA = 24, ALTERNATE_LBA = 32, LAST_USABLE = 48, DISK_GUID = 56, ENTRIES_LBA = 72,
       ENTRY_COUNT = 80, ENTRY_SIZE = 84, ENTRIES_CRC = 88 };
enum { FIRST_LBA = 32, LAST_LBA = 40 };

static uint64_t get(const unsigned char *from, int bytes)
{
    uint64_t value = 0;

    while (bytes--)
        value = value << 8 | from[bytes];
    return value;
}

static void put(unsigned char *to, uint64_t value, int bytes)
{
    for (int i = 0; i < bytes; i++, value >>= 8)
        to[i] = (unsigned char)value;
}

static uint32_t checksum(const unsigned char *data, size_t size)
{
    uint32_t crc = 0xFFFFFFFF;

    for (size_t i = 0; i < size; i++) {
        crc ^= data[i];
        for (int bit = 0; bit < 8; bit++)
            crc = crc >> 1 ^ (crc & 1 ? 0xEDB88320 : 0);
    }
    return ~crc;
}

struct disk {
    int file;
    uint32_t sector;
    uint64_t sectors;
};

/* Whole sectors, from and to memory that direct access can use. */
static int move(const struct disk *disk, uint64_t at, void *data, size_t size, int write)
{
    size_t room = (size + disk->sector - 1) / disk->sector * disk->sector;
    off_t place = (off_t)(at * disk->sector);
    void *buffer;
    int good;

    if (at > disk->sectors || room / disk->sector > disk->sectors - at || posix_memalign(&buffer, ALIGNMENT, room) != 0)
        return -1;
    memset(buffer, 0, room);
    if (write)
        memcpy(buffer, data, size);
    good = (write ? pwrite(disk->file, buffer, room, place) : pread(disk->file, buffer, room, place)) == (ssize_t)room;
    if (good && write)
        good = fsync(disk->file) == 0;
    if (good && !write)
        memcpy(data, buffer, size);
    free(buffer);
    return good ? 0 : -1;
}

/* A header and its entries. */
struct table {
    unsigned char header[LARGEST_SECTOR];
    unsigned char *entries;
    size_t size; /* of the entries, in bytes */
};

static int read_table(const struct disk *disk, uint64_t at, struct table *table)
{
    unsigned char copy[LARGEST_SECTOR];
    uint32_t length;

    free(table->entries);
    table->entries = NULL;
    if (move(disk, at, table->header, disk->sector, 0) != 0 || memcmp(table->header, "EFI PART", 8) != 0)
        return -1;
    length = (uint32_t)get(table->header + HEADER_SIZE, 4);
    if (length < 92 || length > disk->sector || get(table->header + MY_LBA, 8) != at)
        return -1;
    memcpy(copy, table->header, length);
    put(copy + HEADER_CRC, 0, 4);
    if (checksum(copy, length) != get(table->header + HEADER_CRC, 4))
        return -1;
    table->size = (size_t)get(table->header + ENTRY_COUNT, 4) * (size_t)get(table->header + ENTRY_SIZE, 4);
    if (get(table->header + ENTRY_SIZE, 4) < 128 || table->size == 0 || table->size > MOST_ENTRY_BYTES)
        return -1;
    table->entries = malloc(table->size);
    if (!table->entries || move(disk, get(table->header + ENTRIES_LBA, 8), table->entries, table->size, 0) != 0)
        return -1;
    return checksum(table->entries, table->size) == get(table->header + ENTRIES_CRC, 4) ? 0 : -1;
}

/* Writes a header that names `count` of these entries at `place`. */
static int write_header(const struct disk *disk, struct table *table, uint64_t place, uint32_t count)
{
    size_t size = count * (size_t)get(table->header + ENTRY_SIZE, 4);

    put(table->header + ENTRIES_LBA, place, 8);
    put(table->header + ENTRY_COUNT, count, 4);
    put(table->header + ENTRIES_CRC, checksum(table->entries, size), 4);
    put(table->header + HEADER_CRC, 0, 4);
    put(table->header + HEADER_CRC, checksum(table->header, (size_t)get(table->header + HEADER_SIZE, 4)), 4);
    return move(disk, get(table->header + MY_LBA, 8), table->header, disk->sector, 1);
}

static int empty(const unsigned char *entry)
{
    static const unsigned char none[16];

    return memcmp(entry, none, sizeof none) == 0;
}

/* The new primary table takes the place of the old one; `wanted` is the backup, which says all of it. */
static int turn(const struct disk *disk, struct table *now, const struct table *wanted, const char **why)
{
    uint32_t size = (uint32_t)get(wanted->header + ENTRY_SIZE, 4), count = (uint32_t)get(wanted->header + ENTRY_COUNT, 4);
    uint32_t half_count = count / 2;
    size_t half = (size_t)half_count * size;
    const uint64_t first = 2, second = first + half / disk->sector;
    struct table next = *wanted;

    for (uint32_t i = half_count; i < count; i++)
        if (!empty(wanted->entries + (size_t)i * size)) {
            *why = "the table has too many partitions";
            return -1;
        }
    if (count % 2 || half % disk->sector || half == 0) {
        *why = "the table's entries cannot be halved";
        return -1;
    }
    if (get(now->header + ENTRIES_LBA, 8) != first && get(now->header + ENTRIES_LBA, 8) != second) {
        *why = "the table's entries are not in their usual place";
        return -1;
    }
    put(next.header + MY_LBA, 1, 8);
    put(next.header + ALTERNATE_LBA, disk->sectors - 1, 8);
    if (get(now->header + ENTRIES_LBA, 8) == first && memcmp(now->entries, wanted->entries, half) != 0) {
        if (write_header(disk, now, first, half_count) != 0 || move(disk, second, next.entries, half, 1) != 0)
            return -1;
        if (write_header(disk, &next, second, half_count) != 0)
            return -1;
        memcpy(now->header, next.header, sizeof now->header);
    }
    if (get(now->header + ENTRIES_LBA, 8) == second)
        if (move(disk, first, next.entries, half, 1) != 0)
            return -1;
    /* The first half has the new entries. The second one may only change while it does not count. */
    if (write_header(disk, &next, first, half_count) != 0 || move(disk, second, next.entries + half, half, 1) != 0)
        return -1;
    return write_header(disk, &next, first, count);
}

/* Whether a backup is what an earlier run wrote for this primary table: equal to it but for the end of one partition. A disk that
   was written anew may still have the backup of what was on it before. */
static int belongs(const struct table *backup, const struct table *now, unsigned number)
{
    uint32_t size = (uint32_t)get(now->header + ENTRY_SIZE, 4);
    size_t at = (size_t)(number - 1) * size;

    if (memcmp(backup->header + DISK_GUID, now->header + DISK_GUID, 16) != 0 || get(backup->header + ENTRY_SIZE, 4) != size ||
        (backup->size != now->size && backup->size != 2 * now->size) || at >= now->size)
        return 0;
    for (size_t i = 0; i < backup->size; i++)
        if ((i < at + LAST_LBA || i >= at + LAST_LBA + 8) && backup->entries[i] != (i < now->size ? now->entries[i] : 0))
            return 0;
    return 1;
}

/* The protective record covers the disk as it is now. */
static int cover(const struct disk *disk)
{
    unsigned char record[LARGEST_SECTOR];

    if (move(disk, 0, record, disk->sector, 0) != 0)
        return -1;
    for (int i = 0; i < 4; i++)
        if (record[446 + 16 * i + 4] == 0xEE && get(record + 446 + 16 * i + 8, 4) == 1)
            put(record + 446 + 16 * i + 12, disk->sectors - 1 > 0xFFFFFFFF ? 0xFFFFFFFF : disk->sectors - 1, 4);
    return move(disk, 0, record, disk->sector, 1);
}

static int grow_guid(const struct disk *disk, unsigned number, uint64_t *start, uint64_t *end, const char **why)
{
    struct table now = { .entries = NULL }, backup = { .entries = NULL };
    const uint64_t last = disk->sectors - 1;
    uint64_t entry_sectors, usable;
    unsigned char *entry;
    uint32_t size;
    int result = -1, known;

    *why = "the partition table is damaged";
    if (read_table(disk, 1, &now) != 0)
        goto end;
    *why = "the partition is not in the table";
    if (number < 1 || number > now.size / get(now.header + ENTRY_SIZE, 4))
        goto end;
    known = read_table(disk, last, &backup) == 0 && belongs(&backup, &now, number);
    *why = "the partition table is damaged";
    if (!known) { /* a disk that is larger than the table: the primary one has not been touched */
        uint64_t place;

        free(backup.entries);
        backup = now;
        backup.entries = malloc(now.size);
        if (!backup.entries)
            goto end;
        memcpy(backup.entries, now.entries, now.size);
        entry_sectors = (now.size + disk->sector - 1) / disk->sector;
        place = last - entry_sectors;
        put(backup.header + MY_LBA, last, 8);
        put(backup.header + ALTERNATE_LBA, 1, 8);
        put(backup.header + ENTRIES_LBA, place, 8);
        put(backup.header + LAST_USABLE, place - 1, 8);
    }
    usable = get(backup.header + LAST_USABLE, 8);
    size = (uint32_t)get(backup.header + ENTRY_SIZE, 4);
    *why = "the partition is not in the table";
    entry = backup.entries + (size_t)(number - 1) * size;
    if (empty(entry))
        goto end;
    *start = get(entry + FIRST_LBA, 8);
    *end = get(entry + LAST_LBA, 8);
    *why = "another partition is behind it";
    for (size_t at = 0; at < backup.size; at += size)
        if (!empty(backup.entries + at) && get(backup.entries + at + FIRST_LBA, 8) > *start)
            goto end;
    /* The filesystem's blocks are whole; what a part of one would take stays free. */
    usable = (usable + 1) / (ALIGNMENT / disk->sector) * (ALIGNMENT / disk->sector) - 1;
    if (usable < *end)
        usable = *end;
    if (known && usable == *end && get(now.header + ENTRIES_LBA, 8) == 2 &&
        get(now.header + ENTRY_COUNT, 4) == get(backup.header + ENTRY_COUNT, 4) &&
        memcmp(now.entries, backup.entries, now.size) == 0 &&
        get(now.header + ALTERNATE_LBA, 8) == last) {
        *end += 1;
        result = 0;
        goto end;
    }
    *why = "the disk cannot be written";
    put(entry + LAST_LBA, usable, 8);
    *end = usable + 1;
    if (!known || get(backup.header + ENTRIES_CRC, 4) != checksum(backup.entries, backup.size))
        if (move(disk, get(backup.header + ENTRIES_LBA, 8), backup.entries, backup.size, 1) != 0 ||
            write_header(disk, &backup, get(backup.header + ENTRIES_LBA, 8), (uint32_t)get(backup.header + ENTRY_COUNT, 4)) != 0)
            goto end;
    if (cover(disk) == 0 && turn(disk, &now, &backup, why) == 0)
        result = 1;
end:
    free(now.entries);
    free(backup.entries);
    return result;
}

static int grow_classic(const struct disk *disk, unsigned char *record, unsigned number, uint64_t *start, uint64_t *end,
                        const char **why)
{
    unsigned char *entry = record + 446 + 16 * (number - 1);
    uint64_t limit = disk->sectors < 0xFFFFFFFF ? disk->sectors : 0xFFFFFFFF;

    *why = "it is not one of the table's four partitions";
    if (number < 1 || number > 4 || entry[4] == 0)
        return -1;
    *start = get(entry + 8, 4);
    *end = *start + get(entry + 12, 4);
    *why = "another partition is behind it";
    for (int i = 0; i < 4; i++)
        if (record[446 + 16 * i + 4] != 0 && get(record + 446 + 16 * i + 8, 4) > *start)
            return -1;
    limit = limit / (ALIGNMENT / disk->sector) * (ALIGNMENT / disk->sector);
    if (limit <= *end)
        return 0;
    *end = limit;
    put(entry + 12, limit - *start, 4);
    memcpy(entry + 5, "\xFE\xFF\xFF", 3); /* beyond what cylinders, heads and sectors can say */
    *why = "the disk cannot be written";
    return move(disk, 0, record, disk->sector, 1) == 0 ? 1 : -1;
}

int grow_entry(int file, uint32_t sector, uint64_t sectors, unsigned number, uint64_t *start, uint64_t *end, const char **why)
{
    struct disk disk = { file, sector, sectors };
    unsigned char record[LARGEST_SECTOR];

    *why = "the disk cannot be read";
    if (sector < 512 || sector > LARGEST_SECTOR || sectors < 2048 || move(&disk, 0, record, sector, 0) != 0)
        return -1;
    *why = "the disk has no partition table";
    if (record[510] != 0x55 || record[511] != 0xAA)
        return -1;
    for (int i = 0; i < 4; i++)
        if (record[446 + 16 * i + 4] == 0xEE)
            return grow_guid(&disk, number, start, end, why);
    return grow_classic(&disk, record, number, start, end, why);
}

/* The board's disk: its partition table, what its running system says of slots, and the state of these.

   The state is twice there, in the first two sectors of its partition, as blocks of the bootloader's environment: the CRC-32 of what
   follows, maybe a flag byte, then name=value texts with a zero after each. The first copy counts unless its checksum is wrong. */
#include "updater.h"

int disk_read(const struct disk *disk, uint64_t at, void *to, size_t size)
{
    uint8_t *out = to;

    if (sys_seek(disk->file, (int64_t)at) < 0)
        return fail("the disk cannot be read at byte %u", at);
    while (size) {
        long got = sys_read(disk->file, out, size);

        if (got <= 0)
            return fail("the disk cannot be read at byte %u", at);
        out += got;
        size -= (size_t)got;
    }
    return 0;
}

int disk_write(const struct disk *disk, uint64_t at, const void *data, size_t size)
{
    const uint8_t *in = data;

    if (sys_seek(disk->file, (int64_t)at) < 0)
        return fail("the disk cannot be written at byte %u", at);
    while (size) {
        long put = sys_write(disk->file, in, size);

        if (put <= 0)
            return fail("the disk cannot be written at byte %u", at);
        in += put;
        size -= (size_t)put;
    }
    return 0;
}

/* Begin and size of a partition in bytes, by its number: of a GUID partition table (UEFI specification, 5.3), else of the four
   entries of a classic one. */
static int partition(const struct disk *disk, uint64_t number, uint64_t *begin, uint64_t *size)
{
    uint8_t sectors[2 * SECTOR], entry[128];
    uint64_t first = 0, last = 0;

    if (disk_read(disk, 0, sectors, sizeof sectors) < 0)
        return -1;
    if (same_bytes(sectors + SECTOR, "EFI PART", 8)) {
        uint8_t *head = sectors + SECTOR;
        uint64_t length = little(head + 12, 4), each = little(head + 84, 4), entries = little(head + 72, 8);
        uint32_t sum = (uint32_t)little(head + 16, 4);

        clear_bytes(head + 16, 4);
        if (length < 92 || length > SECTOR || crc32(head, (size_t)length) != sum)
            return fail("the partition table is damaged");
        if (each < 128 || each > 4096 || number > little(head + 80, 4) || entries > 1ULL << 48)
            return fail("the disk has no partition %u", number);
        if (disk_read(disk, entries * SECTOR + (number - 1) * each, entry, sizeof entry) < 0)
            return -1;
        first = little(entry + 32, 8);
        last = little(entry + 40, 8);
    } else if (sectors[510] == 0x55 && sectors[511] == 0xAA && number <= 4) {
        const uint8_t *row = sectors + 446 + 16 * (number - 1);

        first = little(row + 8, 4);
        last = first + little(row + 12, 4) - 1;
    }
    if (first < 2 || last < first || last > 1ULL << 40)
        return fail("the disk has no partition %u", number);
    *begin = first * SECTOR;
    *size = (last - first + 1) * SECTOR;
    return 0;
}

static int word_in(const char **text, char *to, size_t room)
{
    size_t length = 0;

    while (**text > ' ') {
        if (length + 1 >= room)
            return -1;
        to[length++] = *(*text)++;
    }
    to[length] = 0;
    *text += **text == ' ';
    return length ? 0 : -1;
}

static int slots_read(struct disk *disk, const char *path)
{
    static char text[8192];
    const char *at = text;

    if (read_file(path, text, sizeof text) < 0)
        return fail("%s cannot be read: the system says nothing of slots", path);
    while (*at) {
        char key[16], rest[NAME];
        uint64_t unused;
        int good;

        if (word_in(&at, key, sizeof key) < 0)
            return fail("%s is damaged", path);
        if (same_text(key, "slot")) {
            struct slot *slot = &disk->slots[disk->count];

            good = disk->count < MOST_SLOTS && word_in(&at, slot->name, sizeof slot->name) == 0 && number_in(&at, &slot->number) == 0;
            disk->count++;
        } else if (same_text(key, "state")) {
            good = number_in(&at, &disk->state_number) == 0;
        } else if (same_text(key, "tries")) {
            good = number_in(&at, &disk->tries) == 0 && disk->tries > 0 && disk->tries < 10;
        } else if (same_text(key, "shared")) {
            good = number_in(&at, &unused) == 0;
        } else {
            char *to = same_text(key, "product") ? disk->product : same_text(key, "board") ? disk->board
                       : same_text(key, "version") ? disk->version : rest;

            good = word_in(&at, to, NAME) == 0;
        }
        if (!good || *at != '\n')
            return fail("%s is damaged", path);
        at++;
    }
    if (!disk->product[0] || !disk->board[0] || !version_fits(disk->version) || !disk->tries || !disk->state_number || disk->count < 2)
        return fail("%s is damaged", path);
    for (unsigned i = 0; i < disk->count; i++)
        for (unsigned k = 0; k <= i; k++)
            if (!disk->slots[i].number || disk->slots[i].number == disk->state_number ||
                (k < i && (disk->slots[k].number == disk->slots[i].number || same_text(disk->slots[k].name, disk->slots[i].name))))
                return fail("%s is damaged", path);
    return 0;
}

/* The kernel's link to what it knows of a device. */
static void device_link(char link[64], const unsigned numbers[2])
{
    size_t at = 15;

    copy_bytes(link, "/sys/dev/block/", 15);
    for (int i = 0; i < 2; i++) {
        char digits[12];
        unsigned number = numbers[i];
        int count = 0;

        do
            digits[count++] = (char)('0' + number % 10);
        while (number /= 10);
        while (count)
            link[at++] = digits[--count];
        link[at++] = i ? 0 : ':';
    }
}

/* Where a partition of a GUID partition table begins, by its name in plain letters. */
int partition_named(int file, const char *name, uint64_t *begin)
{
    const struct disk disk = {.file = file};
    uint8_t head[SECTOR], entry[128];
    uint64_t each, count;

    if (disk_read(&disk, SECTOR, head, sizeof head) < 0)
        return -1;
    each = little(head + 84, 4);
    count = little(head + 80, 4);
    if (!same_bytes(head, "EFI PART", 8) || each < 128 || each > 4096 || count > 1024 || little(head + 72, 8) > 1ULL << 48)
        return fail("the medium has no partition table that is known here");
    for (uint64_t number = 0; number < count; number++) {
        size_t i = 0;

        if (disk_read(&disk, little(head + 72, 8) * SECTOR + number * each, entry, sizeof entry) < 0)
            return -1;
        while (i < 36 && name[i] && entry[56 + 2 * i] == (uint8_t)name[i] && !entry[57 + 2 * i])
            i++;
        if (!name[i] && (i == 36 || !entry[56 + 2 * i]) && little(entry + 32, 8) >= 2) {
            *begin = little(entry + 32, 8) * SECTOR;
            return 0;
        }
    }
    return fail("the medium has no partition %s", name);
}

/* The disk that a partition is on: the kernel's link ends in .../DISK/PARTITION. */
int disk_of(const unsigned numbers[2], char *path, size_t room)
{
    char link[64], target[256];
    size_t end, begin;
    long length;

    device_link(link, numbers);
    length = sys_link(link, target, sizeof target);
    if (length <= 0 || (size_t)length >= sizeof target)
        return -1;
    for (end = (size_t)length; end && target[end - 1] != '/'; end--)
        ;
    if (!end)
        return -1;
    for (begin = --end; begin && target[begin - 1] != '/'; begin--)
        ;
    if (end - begin + 6 > room)
        return -1;
    copy_bytes(path, "/dev/", 5);
    copy_bytes(path + 5, target + begin, end - begin);
    path[5 + end - begin] = 0;
    return 0;
}

static void first_name(const char *name, void *with)
{
    char *to = with;

    if (!*to && length_of(name) < 32)
        copy_bytes(to, name, length_of(name) + 1);
}

/* The device that the root filesystem is on. One that the kernel has made of another one, to verify it, stands for that. */
static int root_numbers(unsigned numbers[2])
{
    static const char SLAVES[] = "/slaves", CLASS[] = "/sys/class/block/", DEV[] = "/dev";
    char path[96], name[32] = "", text[24];
    const char *at = text;
    uint64_t value;

    if (sys_root_device(&numbers[0], &numbers[1]) < 0)
        return -1;
    device_link(path, numbers);
    copy_bytes(path + length_of(path), SLAVES, sizeof SLAVES);
    sys_list(path, first_name, name);
    if (!*name)
        return 0;
    copy_bytes(path, CLASS, sizeof CLASS);
    copy_bytes(path + sizeof CLASS - 1, name, length_of(name) + 1);
    copy_bytes(path + length_of(path), DEV, sizeof DEV);
    if (read_file(path, text, sizeof text) < 0 || number_in(&at, &value) < 0 || *at++ != ':')
        return -1;
    numbers[0] = (unsigned)value;
    if (number_in(&at, &value) < 0)
        return -1;
    numbers[1] = (unsigned)value;
    return 0;
}

int root_disk(char *path, size_t room)
{
    unsigned numbers[2];

    return root_numbers(numbers) < 0 ? -1 : disk_of(numbers, path, room);
}

/* The number of a partition; 0 for what is none. */
static uint64_t partition_number(const unsigned numbers[2])
{
    static const char END[] = "/partition";
    char link[80], text[16];
    const char *at = text;
    uint64_t value = 0;

    device_link(link, numbers);
    copy_bytes(link + length_of(link), END, sizeof END);
    return read_file(link, text, sizeof text) < 0 || number_in(&at, &value) < 0 ? 0 : value;
}

/* Whether what the board runs from is not the running slot, or the other one is mounted: what the command line says may be wrong. */
static int mixed_up(const struct disk *disk)
{
    static char mounts[65536];
    unsigned numbers[2];
    char own[64];

    if (root_numbers(numbers) < 0 || partition_number(numbers) != disk->running->number)
        return fail("the root filesystem is not that of the slot %s: nothing is written", disk->running->name);
    if (read_file("/proc/mounts", mounts, sizeof mounts) < 0)
        return fail("/proc/mounts cannot be read");
    for (char *at = mounts; *at; at++) {
        char *begin = at;

        while (*at && *at != ' ' && *at != '\n')
            at++;
        if (*at != ' ')
            continue;
        *at++ = 0;
        if (begins(begin, "/dev/") && sys_device(begin, &numbers[0], &numbers[1]) == 0 &&
            partition_number(numbers) == disk->other->number && disk_of(numbers, own, sizeof own) == 0 && same_text(own, disk->path))
            return fail("the slot %s is mounted: nothing is written", disk->other->name);
        while (*at && *at != '\n')
            at++;
        if (!*at)
            break;
    }
    return 0;
}

/* The word of the kernel's command line that says which slot runs. */
static int running_slot(char *name, size_t room)
{
    static char line[4096];
    static const char WORD[] = "slots.running=";
    size_t length = 0;
    const char *at = line;

    if (read_file("/proc/cmdline", line, sizeof line) < 0)
        return -1;
    while (*at && !(begins(at, WORD) && (at == line || at[-1] == ' ')))
        at++;
    if (!*at)
        return -1;
    for (at += sizeof WORD - 1; *at > ' ' && length + 1 < room; at++)
        name[length++] = *at;
    name[length] = 0;
    return 0;
}

/* Opens a disk (empty: the one that the root filesystem is on), as a system says what slots it has. */
int disk_open(struct disk *disk, const char *path, const char *slots, const char *running, int writing)
{
    char found[64], name[32];
    struct state state;
    uint64_t size;

    clear_bytes(disk, sizeof *disk);
    if (slots_read(disk, slots) < 0)
        return -1;
    if (!*path && root_disk(found, sizeof found) < 0)
        return fail("it is not clear which disk the root filesystem is on: name it with --disk");
    if (*path && length_of(path) >= sizeof disk->path)
        return fail("%s is too long", path);
    copy_bytes(disk->path, *path ? path : found, length_of(*path ? path : found) + 1);
    disk->file = sys_open(disk->path, writing);
    if (disk->file < 0)
        return fail("%s cannot be opened", disk->path);
    if (partition(disk, disk->state_number, &disk->state_at, &size) < 0)
        return -1;
    for (unsigned i = 0; i < disk->count; i++)
        if (partition(disk, disk->slots[i].number, &disk->slots[i].begin, &disk->slots[i].size) < 0)
            return -1;
    if (size < 2 * SECTOR)
        return fail("the partition with the state is too small");
    if (!*running && !*path) {
        if (running_slot(name, sizeof name) < 0)
            return fail("the kernel's command line does not say which slot runs: name it with --running");
        running = name;
    } else if (!*running) {
        if (state_read(disk, &state) < 0)
            return -1;
        copy_bytes(name, state.known ? state.slot : disk->slots[0].name, sizeof name);
        running = name;
    }
    for (unsigned i = 0; i < disk->count; i++) {
        if (same_text(disk->slots[i].name, running))
            disk->running = &disk->slots[i];
        else if (!disk->other)
            disk->other = &disk->slots[i];
    }
    if (!disk->running || !disk->other)
        return fail("the board has no slot %s", running);
    if (writing && sys_lock(disk->file) < 0)
        return fail("another update is under way");
    return writing && !*path ? mixed_up(disk) : 0;
}

static int sector_read(const uint8_t *sector, struct state *state)
{
    for (int flagged = 0; flagged < 2; flagged++) {
        const char *at = (const char *)sector + 4 + flagged, *end = (const char *)sector + SECTOR;
        char *to;

        if (crc32(sector + 4 + flagged, (size_t)(SECTOR - 4 - flagged)) != (uint32_t)little(sector, 4) || end[-1])
            continue;
        clear_bytes(state, sizeof *state);
        while (*at) {
            size_t length = length_of(at);

            if (begins(at, "tries=")) {
                if (length != 7 || at[6] < '0' || at[6] > '9')
                    return -1;
                state->tries = (unsigned)(at[6] - '0');
            } else if (begins(at, "slot=") || begins(at, "trial=")) {
                size_t head = begins(at, "slot=") ? 5 : 6;

                to = head == 5 ? state->slot : state->trial;
                if (length - head >= sizeof state->slot)
                    return -1;
                copy_bytes(to, at + head, length - head + 1);
            }
            at += length + 1;
            if (at >= end)
                return -1;
        }
        if (!state->slot[0])
            return -1;
        state->known = 1;
        state->flagged = flagged;
        return 0;
    }
    return -1;
}

int state_read(const struct disk *disk, struct state *state)
{
    uint8_t both[2 * SECTOR];

    if (disk_read(disk, disk->state_at, both, sizeof both) < 0)
        return -1;
    for (int copy = 0; copy < 2; copy++)
        if (sector_read(both + copy * SECTOR, state) == 0) {
            state->first = !copy;
            return 0;
        }
    clear_bytes(state, sizeof *state);
    return 0;
}

static size_t setting(uint8_t *sector, size_t at, const char *name, const char *value)
{
    copy_bytes(sector + at, name, length_of(name));
    at += length_of(name);
    copy_bytes(sector + at, value, length_of(value));
    return at + length_of(value) + 1;
}

/* Replaces the state: what was there goes into the second copy before the first one is replaced. */
int state_store(const struct disk *disk, const char *slot, const char *trial, unsigned tries)
{
    uint8_t both[2 * SECTOR], sector[SECTOR];
    char digit[2] = {(char)('0' + tries % 10), 0};
    struct state now;
    size_t at;
    uint32_t sum;

    if (state_read(disk, &now) < 0 || disk_read(disk, disk->state_at, both, sizeof both) < 0)
        return -1;
    if (now.known && now.first && !same_bytes(both, both + SECTOR, SECTOR))
        if (disk_write(disk, disk->state_at + SECTOR, both, SECTOR) < 0 || sys_settle(disk->file) < 0)
            return fail("the state cannot be stored");
    clear_bytes(sector, SECTOR);
    at = (size_t)(4 + now.flagged);
    if (now.flagged)
        sector[4] = 1;
    at = setting(sector, at, "slot=", slot);
    if (*trial) {
        at = setting(sector, at, "trial=", trial);
        setting(sector, at, "tries=", digit);
    }
    sum = crc32(sector + 4 + now.flagged, (size_t)(SECTOR - 4 - now.flagged));
    for (int i = 0; i < 4; i++)
        sector[i] = (uint8_t)(sum >> 8 * i);
    if (disk_write(disk, disk->state_at, sector, SECTOR) < 0 || sys_settle(disk->file) < 0)
        return fail("the state cannot be stored");
    return 0;
}

/* The last partition and its ext2, ext3 or ext4 filesystem, which is mounted, get all room up to the disk's end. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <linux/blkpg.h>
#include <linux/fs.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/statfs.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "first-boot.h"

/* The kernel makes a mounted filesystem larger, with its journal, so that a cut in between does no harm. */
#define EXT4_RESIZE _IOW('f', 16, uint64_t)

static int number_of(const char *path, unsigned *number)
{
    FILE *file = fopen(path, "re");
    int good = file && fscanf(file, "%u", number) == 1;

    if (file)
        fclose(file);
    return good ? 0 : -1;
}

/* The disk that a partition is on: its device file, and the partition's number. */
static int disk_of(const struct stat *status, char *disk, size_t room, unsigned *number)
{
    char link[64], path[4096], file[4200], *slash;

    snprintf(link, sizeof link, "/sys/dev/block/%u:%u", major(status->st_dev), minor(status->st_dev));
    if (!realpath(link, path))
        return -1;
    snprintf(file, sizeof file, "%s/partition", path);
    if (number_of(file, number) != 0 || !(slash = strrchr(path, '/')))
        return -1;
    *slash = 0;
    snprintf(disk, room, "/dev/%s", strrchr(path, '/') + 1);
    return 0;
}

static int grow_partition(const char *disk, unsigned number, uint64_t *bytes)
{
    struct blkpg_partition part = { .pno = (int)number };
    struct blkpg_ioctl_arg argument = { .op = BLKPG_RESIZE_PARTITION, .datalen = sizeof part, .data = &part };
    int file = open(disk, O_RDWR | O_DIRECT | O_CLOEXEC), sector = 0, done, good = 0;
    uint64_t size = 0, start = 0, end = 0;
    const char *why = strerror(errno);

    if (file < 0 || ioctl(file, BLKSSZGET, &sector) != 0 || ioctl(file, BLKGETSIZE64, &size) != 0) {
        say("cannot open %s: %s", disk, why);
        if (file >= 0)
            close(file);
        return -1;
    }
    done = grow_entry(file, (uint32_t)sector, size / (uint32_t)sector, number, &start, &end, &why);
    if (done < 0)
        say("partition %u of %s stays as it is: %s", number, disk, why);
    else {
        *bytes = (end - start) * (uint32_t)sector;
        part.start = (long long)(start * (uint32_t)sector);
        part.length = (long long)*bytes;
        good = ioctl(file, BLKPG, &argument) == 0; /* also when only the kernel does not know yet */
        if (!good)
            say("the kernel keeps the old size of partition %u of %s: %s", number, disk, strerror(errno));
    }
    close(file);
    return good ? 0 : -1;
}

int grow(const char *where)
{
    struct stat status;
    struct statfs before, after;
    char disk[300];
    unsigned number;
    uint64_t bytes = 0, blocks;
    int folder, good;

    if (stat(where, &status) != 0 || statfs(where, &before) != 0 || disk_of(&status, disk, sizeof disk, &number) != 0) {
        say("%s is not on a partition of a disk", where);
        return -1;
    }
    if (grow_partition(disk, number, &bytes) != 0)
        return -1;
    folder = open(where, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    blocks = bytes / (uint64_t)before.f_bsize;
    good = folder >= 0 && ioctl(folder, EXT4_RESIZE, &blocks) == 0;
    if (!good)
        say("the filesystem at %s keeps its size: %s", where, strerror(errno));
    if (folder >= 0) {
        good = good && syncfs(folder) == 0;
        close(folder);
    }
    if (good && statfs(where, &after) == 0)
        say("%s has %llu MiB, and had %llu MiB", where, (unsigned long long)after.f_blocks * (unsigned long long)after.f_bsize >> 20,
            (unsigned long long)before.f_blocks * (unsigned long long)before.f_bsize >> 20);
    return good ? 0 : -1;
}

/* Filesystems and swap of /etc/fstab (fstab(5)). A device may be named as PARTUUID=, like on the kernel's command line. */
#define _GNU_SOURCE
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <mntent.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/swap.h>
#include <unistd.h>

#include "init.h"

#define SECTOR 512

static uint32_t little(const unsigned char *bytes)
{
    return bytes[0] | bytes[1] << 8 | bytes[2] << 16 | (uint32_t)bytes[3] << 24;
}

/* The identifier of a partition in the kernel's form: from the GUID partition table (UEFI specification, 5.3), or the classic
   table's signature and number. */
static int identifier(const char *disk, int number, char *text, size_t room)
{
    unsigned char sector[SECTOR], entry[128];
    char path[300];
    uint64_t entries;
    uint32_t size;
    int file, got = -1;

    snprintf(path, sizeof path, "/dev/%s", disk);
    file = open(path, O_RDONLY | O_CLOEXEC);
    if (file < 0)
        return -1;
    if (pread(file, sector, SECTOR, SECTOR) == SECTOR && memcmp(sector, "EFI PART", 8) == 0) {
        entries = little(sector + 72) | (uint64_t)little(sector + 76) << 32;
        size = little(sector + 84);
        if (number >= 1 && size >= 128 && size <= 4096 &&
            pread(file, entry, sizeof entry, (off_t)(entries * SECTOR + (uint64_t)(number - 1) * size)) == sizeof entry) {
            const unsigned char *g = entry + 16;

            snprintf(text, room, "%08x-%04x-%04x-%02x%02x-%02x%02x%02x%02x%02x%02x", (unsigned)little(g), g[4] | g[5] << 8,
                     g[6] | g[7] << 8, g[8], g[9], g[10], g[11], g[12], g[13], g[14], g[15]);
            got = 0;
        }
    } else if (pread(file, sector, SECTOR, 0) == SECTOR && sector[510] == 0x55 && sector[511] == 0xAA) {
        snprintf(text, room, "%08x-%02x", (unsigned)little(sector + 440), number);
        got = 0;
    }
    close(file);
    return got;
}

static int number_in(const char *path)
{
    int number = -1;
    FILE *file = fopen(path, "re");

    if (file && fscanf(file, "%d", &number) != 1)
        number = -1;
    if (file)
        fclose(file);
    return number;
}

/* The device file that a name of fstab means; the name itself when it is none. */
static void resolve(const char *name, char *path, size_t room)
{
    DIR *disks = strncmp(name, "PARTUUID=", 9) == 0 ? opendir("/sys/block") : NULL;
    struct dirent *disk, *part;

    snprintf(path, room, "%s", name);
    while (disks && (disk = readdir(disks))) {
        char folder[300], inner[700], text[64];
        DIR *parts;

        snprintf(folder, sizeof folder, "/sys/block/%s", disk->d_name);
        parts = disk->d_name[0] == '.' ? NULL : opendir(folder);
        while (parts && (part = readdir(parts))) {
            int number;

            snprintf(inner, sizeof inner, "%s/%s/partition", folder, part->d_name);
            if (part->d_name[0] == '.' || (number = number_in(inner)) < 1)
                continue;
            if (identifier(disk->d_name, number, text, sizeof text) == 0 && strcasecmp(text, name + 9) == 0)
                snprintf(path, room, "/dev/%s", part->d_name);
        }
        if (parts)
            closedir(parts);
    }
    if (disks)
        closedir(disks);
}

static const struct {
    const char *name;
    unsigned long set, clear;
} flags[] = {
    { "ro", MS_RDONLY, 0 },         { "rw", 0, MS_RDONLY },        { "nosuid", MS_NOSUID, 0 },
    { "nodev", MS_NODEV, 0 },       { "noexec", MS_NOEXEC, 0 },    { "noatime", MS_NOATIME, 0 },
    { "sync", MS_SYNCHRONOUS, 0 },  { "relatime", MS_RELATIME, 0 }, { "bind", MS_BIND, 0 },
    { "defaults", 0, 0 },           { "nofail", 0, 0 },
};

/* The value of an option like upperdir=. */
static int option(const struct mntent *entry, const char *name, char *value, size_t room)
{
    const char *found = hasmntopt(entry, name);

    if (!found || found[strlen(name)] != '=')
        return 0;
    found += strlen(name) + 1;
    snprintf(value, room, "%.*s", (int)strcspn(found, ","), found);
    return 1;
}

/* What overlays and binds stand on has to be there, with the owner and mode of what they cover. */
static void prepare(const struct mntent *entry)
{
    char place[400];
    struct stat status;
    int known = stat(entry->mnt_dir, &status) == 0;

    if (option(entry, "workdir", place, sizeof place))
        make_path(place, 0700);
    if (option(entry, "upperdir", place, sizeof place) || hasmntopt(entry, "bind")) {
        const char *below = hasmntopt(entry, "bind") ? entry->mnt_fsname : place;
        struct stat there;

        if (known && stat(below, &there) != 0 && make_path(below, status.st_mode & 07777) == 0 &&
            (chown(below, status.st_uid, status.st_gid) != 0 || chmod(below, status.st_mode & 07777) != 0))
            perror("init: owner of a writable place");
    }
    if (!known)
        make_path(entry->mnt_dir, 0755);
}

static void mount_entry(const struct mntent *entry)
{
    char device[300], data[1024] = "", options[1024], *rest = options, *word;
    unsigned long how = 0;

    resolve(entry->mnt_fsname, device, sizeof device);
    if (strcmp(entry->mnt_type, "swap") == 0) {
        if (swapon(device, 0) != 0)
            fprintf(stderr, "init: cannot swap on %s: %s\n", entry->mnt_fsname, strerror(errno));
        return;
    }
    if (strcmp(entry->mnt_dir, "/") == 0)
        return; /* the kernel has mounted it */
    prepare(entry);
    snprintf(options, sizeof options, "%s", entry->mnt_opts);
    while ((word = strsep(&rest, ","))) {
        size_t at = 0;

        while (at < sizeof flags / sizeof *flags && strcmp(flags[at].name, word) != 0)
            at++;
        if (at < sizeof flags / sizeof *flags)
            how = (how | flags[at].set) & ~flags[at].clear;
        else if (strncmp(word, "x-", 2) != 0)
            snprintf(data + strlen(data), sizeof data - strlen(data), "%s%s", data[0] ? "," : "", word);
    }
    if (mount(device, entry->mnt_dir, entry->mnt_type, how, data) != 0 && !(errno == EBUSY) && !hasmntopt(entry, "nofail"))
        fprintf(stderr, "init: cannot mount %s on %s: %s\n", entry->mnt_fsname, entry->mnt_dir, strerror(errno));
    else if (how & MS_BIND && how & (MS_RDONLY | MS_NOSUID | MS_NODEV | MS_NOEXEC))
        mount(NULL, entry->mnt_dir, NULL, how | MS_REMOUNT, NULL); /* a bind takes its flags only the second time */
}

void mount_all(void)
{
    FILE *table = setmntent("/etc/fstab", "re");
    struct mntent *entry;

    while (table && (entry = getmntent(table)))
        mount_entry(entry);
    if (table)
        endmntent(table);
}

/* What the parts of first-boot have in common. */
#ifndef FIRST_BOOT_H
#define FIRST_BOOT_H

#include <stddef.h>
#include <stdint.h>

/* A line for the log and the console. */
void say(const char *form, ...) __attribute__((format(printf, 1, 2)));

/* Keeps a text, whole or not at all, even when power is cut. Returns 0, or -1 with errno. */
int write_safely(const char *path, const void *data, size_t size, unsigned mode);

/* All of a file, with a 0 after it; NULL when it cannot be read or is longer than `most`. The caller frees it. */
char *read_all(const char *path, size_t most);

/* One setting of the card: its name, which values it may have, and what it is without one. */
#define MOST_SETTINGS 64
#define LONGEST_VALUE 256
struct setting {
    char name[64], kind[16], letters[160], usual[LONGEST_VALUE + 1], value[LONGEST_VALUE + 1];
    long long least, most;
    char *choices[32];
    int choice_count, bounded, secret;
};
extern struct setting settings[MOST_SETTINGS];
extern int setting_count;

/* Takes a line of /etc/first-boot that is about settings. Returns whether it is one. */
int read_setting_line(char *line);

/* Why a value cannot be; NULL when it can. */
const char *unfit(const struct setting *one, const char *value);

/* Reads the file on the card; all of it is taken into `kept`, or nothing. `accepted` is a copy of the last one that was right.
   Returns 0, or -1 when something is wrong in it. */
int take_settings(const char *file, const char *accepted, const char *kept);

/* Gives the partition that is mounted there all room up to the disk's end, and its filesystem with it. Returns 0 or -1. */
int grow(const char *where);

/* Moves a partition's end as far as its disk goes. `file` is the disk, `sector` its logical block in bytes, `sectors` how many
   it has. The new end, in sectors from the disk's start, goes to `end`. Returns 1 when something was written, 0 when nothing
   had to be, -1 with a reason in `why`. Whenever power is cut, the table is valid and has the old end or the new one. */
int grow_entry(int file, uint32_t sector, uint64_t sectors, unsigned number, uint64_t *start, uint64_t *end, const char **why);

#endif

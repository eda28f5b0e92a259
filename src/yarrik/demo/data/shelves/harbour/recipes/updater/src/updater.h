/* Brings updates onto a board. What is said of forms is in the module that reads each. */
#ifndef UPDATER_H
#define UPDATER_H

#include <stddef.h>
#include <stdint.h>

/* sys.c or hosted.c: the kernel's calls. What fails is negative. */
enum { READING, WRITING, ALONE }; /* ALONE: a disk that nothing else on the board uses */
int sys_open(const char *path, int how);
void sys_close(int file);
long sys_read(int file, void *data, size_t size);
long sys_write(int file, const void *data, size_t size);
int64_t sys_seek(int file, int64_t at);
int sys_settle(int file);
int sys_lock(int file);
void sys_forget(int file);
long sys_link(const char *path, char *to, size_t size);
int sys_root_device(unsigned *major, unsigned *minor);
int sys_device(const char *path, unsigned *major, unsigned *minor);
int sys_list(const char *folder, void (*found)(const char *name, void *with), void *with);
int sys_connect(uint32_t address, uint16_t port);
void sys_sleep(unsigned seconds);
int sys_run(char *const words[], unsigned seconds);
void sys_restart(void);
int sys_processors(void);
int sys_pipe(int ends[2]);
long sys_fork(void);
int sys_wait(long child);
void sys_end(int code);

/* text.c */
size_t length_of(const char *text);
int same_text(const char *one, const char *other);
int begins(const char *text, const char *with);
int number_in(const char **text, uint64_t *value);
void copy_bytes(void *to, const void *from, size_t size);
void clear_bytes(void *to, size_t size);
int same_bytes(const void *one, const void *other, size_t size);
extern int screen;
void say(const char *text, ...);
int fail(const char *text, ...);
long read_file(const char *path, char *to, size_t size);

/* digest.c: BLAKE2b of 32 bytes (RFC 7693), SHA-512 (RFC 6234), and the CRC-32 of IEEE 802.3. */
void blake2b(uint8_t digest[32], const uint8_t *data, size_t size);
void sha512(uint8_t digest[64], const uint8_t *data, size_t size);
uint32_t crc32(const uint8_t *data, size_t size);

/* ed25519.c (RFC 8032): whether the signature of a message is by this key. */
int ed25519_fits(const uint8_t signature[64], const uint8_t *message, size_t size, const uint8_t key[32]);

/* zstd.c (RFC 8878): makes `size` bytes behind `near` bytes of dictionary in `to` out of a frame; 0 when all is well. */
int zstd_frame(uint8_t *to, size_t near, size_t size, const uint8_t *frame, size_t length);

/* source.c: an update's bytes, from a file or by HTTP. Reading goes forward only. */
struct source {
    int file;
    uint64_t base; /* where it begins in the file */
    int by_http;
    uint32_t address;
    uint16_t port;
    char host[64];
    char path[512];
    uint64_t at;
};
int source_open(struct source *source, const char *name);
int source_read(struct source *source, uint64_t at, uint8_t *to, size_t size);
void source_close(struct source *source);

/* bundle.c: the form of an update. */
enum { NAME = 64, LONGEST = 256 * 1024, PIECE = 96, MOST_INDEX = 32 * 1024 * 1024, MOST_KEYS = 16 };
enum { ZERO, COPY, DATA };
struct description {
    char product[NAME], board[NAME], version[NAME], start[NAME];
    int older, whole_disk;
    uint64_t size, pieces;
    uint8_t index[32];
};
struct bundle {
    struct description about;
    uint32_t index_size;
    uint64_t index_at, body;
};
struct piece {
    uint32_t kind, length, reach, stored;
    uint64_t old;
    const uint8_t *digest, *of_stored;
};
struct keys {
    unsigned count;
    uint8_t key[MOST_KEYS][32];
};
int read_keys(struct keys *keys, char *text);
int bundle_open(struct bundle *bundle, struct source *source, const struct keys *keys);
int index_check(const struct bundle *bundle, const uint8_t *index, uint64_t old_size);
void index_piece(struct piece *piece, const uint8_t *index, uint64_t number);
int version_order(const char *one, const char *other);
int version_fits(const char *text);

/* disk.c: the board's disk, its slots, and the state of these. */
enum { MOST_SLOTS = 8, SECTOR = 512 };
struct slot {
    char name[32];
    uint64_t number, begin, size;
};
struct state {
    int known, first, flagged;
    char slot[32], trial[32];
    unsigned tries;
};
struct disk {
    int file;
    char path[256];
    char product[NAME], board[NAME], version[NAME];
    uint64_t state_number, state_at, tries;
    unsigned count;
    struct slot slots[MOST_SLOTS];
    const struct slot *running, *other;
};
int disk_of(const unsigned numbers[2], char *path, size_t room);
int root_disk(char *path, size_t room);
int partition_named(int file, const char *name, uint64_t *begin);
int disk_open(struct disk *disk, const char *path, const char *slots, const char *running, int writing);
int disk_read(const struct disk *disk, uint64_t at, void *to, size_t size);
int disk_write(const struct disk *disk, uint64_t at, const void *data, size_t size);
int state_read(const struct disk *disk, struct state *state);
int state_store(const struct disk *disk, const char *slot, const char *trial, unsigned tries);

/* apply.c */
int apply(struct disk *disk, struct source *source, const struct keys *keys);
int install(const char *path, const char *board, int ask, const char *from, struct source *source, const struct keys *keys);
int target_find(char *path, size_t room);

uint64_t little(const uint8_t *from, int bytes);
int all_zero(const uint8_t *data, size_t size);

#if __BYTE_ORDER__ != __ORDER_LITTLE_ENDIAN__
#error "words are taken from memory as they are"
#endif

static inline uint64_t word_at(const void *from)
{
    uint64_t word;

    __builtin_memcpy(&word, from, sizeof word);
    return word;
}

#endif

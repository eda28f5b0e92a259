/* Writes the slot that does not run, reads it back, and puts it on trial. Before its first byte changes, the state names it no
   longer; after the last one has reached the disk, the state names it again, in one sector. So a power cut at any moment leaves
   a board that starts the old system or the new one. What is right already is not written again, so a run may begin anew. */
#include "updater.h"

/* What is written last of a whole disk: the partition table is in it. */
enum { BEGINNING = 1024 * 1024, GROUP = 16 };

static uint8_t index_room[MOST_INDEX], made[2 * LONGEST], there[LONGEST], stored[LONGEST];

static int is(const uint8_t *data, size_t size, const uint8_t *digest)
{
    uint8_t found[32];

    blake2b(found, data, size);
    return same_bytes(found, digest, 32);
}

/* Sees to it that a range is empty, or only looks: 1 when it is not. */
static int zeroed(const struct disk *disk, uint64_t at, uint32_t length, int only_look)
{
    while (length) {
        uint32_t part = length < LONGEST ? length : LONGEST;

        if (disk_read(disk, at, there, part) < 0)
            return -1;
        if (!all_zero(there, part)) {
            if (only_look)
                return 1;
            clear_bytes(there, part);
            if (disk_write(disk, at, there, part) < 0)
                return -1;
        }
        at += part;
        length -= part;
    }
    return 0;
}

/* What a piece is made of, in `made`; its begin there, or NULL. */
static const uint8_t *content(const struct disk *disk, struct source *source, const struct piece *piece, uint64_t body)
{
    if (disk_read(disk, disk->running->begin + piece->old, made, piece->reach) < 0)
        return NULL;
    if (piece->kind == COPY) {
        if (!is(made, piece->length, piece->digest)) {
            fail("the running slot is not the system that the update starts from");
            return NULL;
        }
        return made;
    }
    if (source_read(source, body, stored, piece->stored) < 0)
        return NULL;
    if (!is(stored, piece->stored, piece->of_stored)) {
        fail("a part of the update is not what was signed");
        return NULL;
    }
    if (zstd_frame(made, piece->reach, piece->length, stored, piece->stored) < 0 ||
        !is(made + piece->reach, piece->length, piece->digest)) {
        fail("the running slot is not the system that the update starts from");
        return NULL;
    }
    return made + piece->reach;
}

/* Whether a piece of the slot is not what belongs there. A copy is held against the running slot, which was held against the
   digest a moment ago; both come from the disk again. */
static int differs(const struct disk *disk, uint64_t at, const struct piece *piece)
{
    if (disk_read(disk, at, there, piece->length) < 0)
        return -1;
    if (piece->kind != COPY)
        return !is(there, piece->length, piece->digest);
    if (disk_read(disk, disk->running->begin + piece->old, made, piece->length) < 0)
        return -1;
    return !same_bytes(there, made, piece->length);
}

static int refused(const struct disk *disk, const struct description *about)
{
    if (about->whole_disk)
        return fail("the update is for a whole disk, and not for a slot");
    if (!same_text(about->product, disk->product) || !same_text(about->board, disk->board))
        return fail("the update is for %s on %s, and this is %s on %s", about->product, about->board, disk->product, disk->board);
    if (about->start[0] && version_order(about->start, disk->version))
        return fail("the update starts from version %s, and %s is running", about->start, disk->version);
    if (version_order(about->version, disk->version) < 0 && !about->older)
        return fail("the update brings version %s, and %s is running: it is not signed for going back", about->version, disk->version);
    if (about->size > disk->other->size)
        return fail("the new system has %u bytes, and the slot %s has %u", about->size, disk->other->name, disk->other->size);
    return 0;
}

/* Pieces that the second process has: some of those that need nothing of the source, in groups that lie together. */
static int of_second(const struct piece *piece, uint64_t number)
{
    return piece->kind != DATA && number / GROUP % 2;
}

/* What one process writes of the new slot. The first one tells how far it is. */
static int write_part(struct disk *disk, struct source *source, const struct bundle *bundle, int second, uint64_t *written)
{
    uint64_t at = 0, body = bundle->body, tenth = 0, base = disk->other->begin;

    for (uint64_t number = 0; number < bundle->about.pieces; number++) {
        struct piece piece;

        index_piece(&piece, index_room, number);
        if (second != of_second(&piece, number)) {
            /* the other process has it */
        } else if (piece.kind == ZERO) {
            if (zeroed(disk, base + at, piece.length, 0) < 0)
                return -1;
        } else {
            const uint8_t *data = NULL;

            if (disk_read(disk, base + at, there, piece.length) < 0)
                return -1;
            if (piece.kind == COPY || !is(there, piece.length, piece.digest)) {
                data = content(disk, source, &piece, body);
                if (!data)
                    return -1;
                if (!same_bytes(there, data, piece.length)) {
                    if (disk_write(disk, base + at, data, piece.length) < 0)
                        return -1;
                    *written += piece.length;
                }
            }
        }
        at += piece.length;
        body += piece.stored;
        if (!second && at * 10 / bundle->about.size > tenth) {
            tenth = at * 10 / bundle->about.size;
            say("%u of 10", tenth);
        }
    }
    return 0;
}

/* Whether what one process looks at is as it should be. */
static int look_part(struct disk *disk, struct source *source, const struct bundle *bundle, int second, uint64_t *unused)
{
    uint64_t at = 0, base = disk->other->begin;

    (void)source, (void)unused;
    for (uint64_t number = 0; number < bundle->about.pieces; number++) {
        struct piece piece;
        int wrong = 0;

        index_piece(&piece, index_room, number);
        if (second == of_second(&piece, number))
            wrong = piece.kind == ZERO ? zeroed(disk, base + at, piece.length, 1) : differs(disk, base + at, &piece);
        if (wrong)
            return wrong < 0 ? -1 : fail("the slot %s does not hold what was written to it", disk->other->name);
        at += piece.length;
    }
    return 0;
}

/* Does something in two processes, since digests take longer than disks do; each has a descriptor of its own. */
static int together(int (*part)(struct disk *, struct source *, const struct bundle *, int, uint64_t *), struct disk *disk,
                    struct source *source, const struct bundle *bundle, uint64_t *sum)
{
    int ends[2], failed;
    long child = -1;
    uint64_t more = 0;

    if (sys_processors() > 1 && sys_pipe(ends) == 0) {
        child = sys_fork();
        if (child < 0) {
            sys_close(ends[0]);
            sys_close(ends[1]);
        }
    }
    if (child == 0) {
        disk->file = sys_open(disk->path, WRITING);
        failed = disk->file < 0 || part(disk, source, bundle, 1, &more) < 0;
        sys_end(failed || sys_write(ends[1], &more, sizeof more) != sizeof more);
    }
    failed = part(disk, source, bundle, 0, sum) < 0;
    if (child < 0)
        return failed || part(disk, source, bundle, 1, sum) < 0 ? -1 : 0;
    sys_close(ends[1]);
    if (sys_read(ends[0], &more, sizeof more) == sizeof more)
        *sum += more;
    sys_close(ends[0]);
    return sys_wait(child) != 0 || failed ? -1 : 0;
}

int apply(struct disk *disk, struct source *source, const struct keys *keys)
{
    static struct bundle bundle;
    struct state state;
    uint64_t written = 0, unused = 0;

    if (bundle_open(&bundle, source, keys) < 0 || refused(disk, &bundle.about) < 0)
        return -1;
    if (source_read(source, bundle.index_at, index_room, bundle.index_size) < 0 ||
        index_check(&bundle, index_room, disk->running->size) < 0 || state_read(disk, &state) < 0)
        return -1;
    if (state.known && same_text(state.trial, disk->running->name))
        return fail("the running system is on trial itself, and has to be confirmed first");
    say("version %s goes into the slot %s; %s runs in %s", bundle.about.version, disk->other->name, disk->version, disk->running->name);
    if (!state.known || state.trial[0] || !same_text(state.slot, disk->running->name))
        if (state_store(disk, disk->running->name, "", 0) < 0)
            return -1;
    if (together(write_part, disk, source, &bundle, &written) < 0)
        return -1;
    if (sys_settle(disk->file) < 0)
        return fail("the disk did not take all that was written");
    sys_forget(disk->file);
    if (together(look_part, disk, source, &bundle, &unused) < 0)
        return -1;
    if (state_store(disk, disk->running->name, disk->other->name, (unsigned)disk->tries) < 0)
        return -1;
    say("%u bytes written and all read back; the slot %s is tried at the next start", written, disk->other->name);
    return 0;
}

struct search {
    char own[64], found[64];
    unsigned count;
};

static uint64_t number_file(const char *begin, const char *name, const char *end)
{
    char path[160], text[32];
    const char *at = text;
    uint64_t value = 0;
    size_t length = 0;

    for (const char *parts[3] = {begin, name, end}, **part = parts; part < parts + 3; part++)
        for (const char *c = *part; *c && length + 1 < sizeof path; c++)
            path[length++] = *c;
    path[length] = 0;
    if (read_file(path, text, sizeof text) < 0 || number_in(&at, &value) < 0)
        return 0;
    return value;
}

static void look_at(const char *name, void *with)
{
    static const char *const OTHERS[] = {"loop", "ram", "zram", "sr", "dm-", "md", "nbd", "mtdblock", "fd"};
    struct search *search = with;

    for (unsigned i = 0; i < sizeof OTHERS / sizeof *OTHERS; i++)
        if (begins(name, OTHERS[i]))
            return;
    for (const char *c = name; *c; c++) /* the boot areas of an eMMC */
        if (begins(c, "boot") || begins(c, "rpmb"))
            return;
    if (length_of(name) + 6 > sizeof search->found || !number_file("/sys/block/", name, "/size") || same_text(search->own + 5, name))
        return;
    if (!search->count++) {
        copy_bytes(search->found, "/dev/", 5);
        copy_bytes(search->found + 5, name, length_of(name) + 1);
        return;
    }
    if (search->count == 2)
        say("there is %s", search->found);
    say("there is /dev/%s", name);
}

/* The one disk beside that of the root filesystem. */
int target_find(char *path, size_t room)
{
    struct search search = {.own = "/dev/"};

    root_disk(search.own, sizeof search.own);
    if (sys_list("/sys/block", look_at, &search) < 0)
        return fail("the board's disks cannot be listed");
    if (search.count != 1)
        return fail(search.count ? "there are several disks: name one with --disk" : "there is no disk beside the one that this runs from");
    copy_bytes(path, search.found, room < sizeof search.found ? room : sizeof search.found);
    return 0;
}

/* Whether a path is no whole disk, or the one that this runs from. */
static int target_refused(const char *path, const char *from, uint64_t *size)
{
    static const char link[] = "/sys/class/block/";
    char own[64];
    unsigned mine[2], numbers[2];
    const char *name = path;

    if (sys_device(path, &numbers[0], &numbers[1]) < 0)
        return fail("%s is no disk", path);
    if (root_disk(own, sizeof own) == 0 && sys_device(own, &mine[0], &mine[1]) == 0 && mine[0] == numbers[0] && mine[1] == numbers[1])
        return fail("%s is the disk that this runs from", path);
    if (begins(from, "/dev/") && sys_device(from, &mine[0], &mine[1]) == 0 &&
        ((mine[0] == numbers[0] && mine[1] == numbers[1]) || (disk_of(mine, own, sizeof own) == 0 && same_text(own, path))))
        return fail("%s is what the image is on", path);
    for (const char *c = path; *c; c++)
        if (*c == '/')
            name = c + 1;
    if (number_file(link, name, "/partition"))
        return fail("%s is a partition, and not a whole disk", path);
    *size = number_file(link, name, "/size") * SECTOR;
    return *size ? 0 : fail("the size of %s is not known", path);
}

/* What is written of a piece of a whole disk; its length, 0 when it was right already, -1 on failure. */
static int64_t put_piece(const struct disk *disk, struct source *source, const struct piece *piece, uint64_t at, uint64_t body)
{
    const uint8_t *data;

    if (piece->kind == ZERO)
        return zeroed(disk, at, piece->length, 0);
    if (disk_read(disk, at, there, piece->length) < 0)
        return -1;
    if (is(there, piece->length, piece->digest))
        return 0;
    data = content(disk, source, piece, body);
    return data && disk_write(disk, at, data, piece->length) == 0 ? (int64_t)piece->length : -1;
}

/* Writes, or looks at, the pieces of which the beginning is on this side of the border, or beyond it. */
static int pass(const struct disk *disk, struct source *source, const struct bundle *bundle, int first, int look, uint64_t *written)
{
    uint64_t at = 0, body = bundle->body, tenth = 0;

    for (uint64_t number = 0; number < bundle->about.pieces; number++) {
        struct piece piece;
        int64_t done = 0;

        index_piece(&piece, index_room, number);
        if ((at < BEGINNING) == first) {
            if (look) {
                int wrong = piece.kind == ZERO ? zeroed(disk, at, piece.length, 1) : differs(disk, at, &piece);

                if (wrong)
                    return wrong < 0 ? -1 : fail("the disk does not hold what was written to it at byte %u", at);
            } else {
                done = put_piece(disk, source, &piece, at, body);
                if (done < 0)
                    return -1;
                *written += (uint64_t)done;
            }
        }
        at += piece.length;
        body += piece.stored;
        if (!first && at * 10 / bundle->about.size > tenth) {
            tenth = at * 10 / bundle->about.size;
            say(look ? "%u of 10 compared" : "%u of 10 written", tenth);
        }
    }
    return sys_settle(disk->file) < 0 ? fail("the disk did not take all that was written") : 0;
}

/* Writes a whole disk. Its beginning, with the partition table, is emptied first and comes last: what was cut off midway never looks
   finished, and the same again keeps what is right already. */
int install(const char *path, const char *board, int ask, const char *from, struct source *source, const struct keys *keys)
{
    static struct bundle bundle;
    struct disk disk = {.file = -1};
    struct slot none = {.size = 0};
    uint64_t size, written = 0;
    char line[80];

    if (bundle_open(&bundle, source, keys) < 0)
        return -1;
    if (!bundle.about.whole_disk)
        return fail("the medium has an update for a slot, and not a whole disk");
    if (!same_text(bundle.about.board, board))
        return fail("the image is for %s, and this is %s", bundle.about.board, board);
    if (target_refused(path, from, &size) < 0)
        return -1;
    if (bundle.about.size > size)
        return fail("the image has %u bytes, and %s %u", bundle.about.size, path, size);
    disk.file = sys_open(path, ALONE);
    if (disk.file < 0)
        return fail("%s is in use, or cannot be written to", path);
    disk.running = &none;
    if (source_read(source, bundle.index_at, index_room, bundle.index_size) < 0 || index_check(&bundle, index_room, 0) < 0)
        return -1;
    say("%s, version %s, goes to %s, which has %u MiB; all that is on it is lost", bundle.about.product, bundle.about.version, path, size >> 20);
    if (ask) {
        long got;

        say("to begin, type %s", path);
        got = sys_read(0, line, sizeof line - 1);
        while (got > 0 && (line[got - 1] == '\n' || line[got - 1] == '\r'))
            got--;
        line[got > 0 ? got : 0] = 0;
        if (!same_text(line, path))
            return fail("that is not %s: nothing was written", path);
    }
    if (zeroed(&disk, 0, BEGINNING < size ? BEGINNING : (uint32_t)size, 0) < 0 || sys_settle(disk.file) < 0)
        return fail("%s cannot be written to", path);
    if (pass(&disk, source, &bundle, 0, 0, &written) < 0)
        return -1;
    sys_forget(disk.file);
    if (pass(&disk, source, &bundle, 0, 1, &written) < 0)
        return -1;
    /* The beginning is read again from where it begins. */
    if (source->by_http)
        source_close(source);
    if (pass(&disk, source, &bundle, 1, 0, &written) < 0)
        return -1;
    sys_forget(disk.file);
    if (pass(&disk, source, &bundle, 1, 1, &written) < 0)
        return -1;
    say("installed: %s, version %s, is on %s; %u bytes written, and all read back", bundle.about.product, bundle.about.version, path, written);
    return 0;
}

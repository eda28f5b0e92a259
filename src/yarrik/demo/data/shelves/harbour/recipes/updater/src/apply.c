/* Writes the slot that does not run, reads it back, and puts it on trial. Before its first byte changes, the state names it no
   longer; after the last one has reached the disk, the state names it again, in one sector. So a power cut at any moment leaves
   a board that starts the old system or the new one. What is right already is not written again, so a run may begin anew. */
#include "updater.h"

static uint8_t index_room[MOST_INDEX], made[2 * LONGEST], there[LONGEST], stored[LONGEST];

static int is(const uint8_t *data, size_t size, const uint8_t *digest)
{
    uint8_t found[32];

    blake2b(found, data, size);
    return same_bytes(found, digest, 32);
}

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

int apply(struct disk *disk, struct source *source, const struct keys *keys)
{
    static struct bundle bundle;
    struct state state;
    uint64_t at, body, written = 0, tenth = 0, base = disk->other->begin;

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
    at = 0;
    body = bundle.body;
    for (uint64_t number = 0; number < bundle.about.pieces; number++) {
        struct piece piece;

        index_piece(&piece, index_room, number);
        if (piece.kind == ZERO) {
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
                    written += piece.length;
                }
            }
        }
        at += piece.length;
        body += piece.stored;
        if (at * 10 / bundle.about.size > tenth) {
            tenth = at * 10 / bundle.about.size;
            say("%u of 10", tenth);
        }
    }
    if (sys_settle(disk->file) < 0)
        return fail("the disk did not take all that was written");
    sys_forget(disk->file);
    at = 0;
    for (uint64_t number = 0; number < bundle.about.pieces; number++) {
        struct piece piece;
        int wrong;

        index_piece(&piece, index_room, number);
        if (piece.kind == ZERO)
            wrong = zeroed(disk, base + at, piece.length, 1);
        else
            wrong = differs(disk, base + at, &piece);
        if (wrong)
            return wrong < 0 ? -1 : fail("the slot %s does not hold what was written to it", disk->other->name);
        at += piece.length;
    }
    if (state_store(disk, disk->running->name, disk->other->name, (unsigned)disk->tries) < 0)
        return -1;
    say("%u bytes written and all read back; the slot %s is tried at the next start", written, disk->other->name);
    return 0;
}

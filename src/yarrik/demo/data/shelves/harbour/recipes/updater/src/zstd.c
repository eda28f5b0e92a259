/* Decompresses frames of Zstandard (RFC 8878) that say how long their content is, and have no checksum: what is handed in here
   was compared with a signed digest, and what comes out is as well. Nothing is believed of a frame all the same. */
#include "updater.h"

enum { MOST_BLOCK = 128 * 1024, MOST_TABLE = 512, MOST_SYMBOLS = 256, MOST_WEIGHT = 11 };
enum { LITERAL_LENGTHS, OFFSETS, MATCH_LENGTHS };

struct cell { /* of a table of finite state entropy (section 4.1) */
    uint8_t symbol, bits;
    uint16_t base;
};
struct table {
    int log; /* -1: none yet */
    struct cell cells[MOST_TABLE];
};
/* Bits are taken from the end of a stream (section 4.1): `at` is how many are left, negative once too many were taken. */
struct bits {
    const uint8_t *from;
    long at;
};

static struct table tables[3], weights_table;
static struct { uint8_t symbol, bits; } huffman[1 << MOST_WEIGHT];
static int huffman_log;
static uint8_t literals[MOST_BLOCK];
static uint32_t repeated[3];

static const int8_t USUAL_LITERALS[36] = {4, 3, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 1, 1, 1, 2, 2, 2, 2, 2, 2, 2, 2, 2, 3, 2, 1, 1, 1, 1, 1,
                                          -1, -1, -1, -1};
static const int8_t USUAL_MATCHES[53] = {1, 4, 3, 2, 2, 2, 2, 2, 2, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1,
                                         1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, -1, -1, -1, -1, -1, -1, -1};
static const int8_t USUAL_OFFSETS[29] = {1, 1, 1, 1, 1, 1, 2, 2, 2, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, -1, -1, -1, -1, -1};
/* Section 3.1.1.3.2.1.1: what a code stands for, and how many bits are added. */
static const uint32_t LITERAL_BASE[36] = {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 18, 20, 22, 24, 28, 32, 40, 48, 64, 128,
                                          256, 512, 1024, 2048, 4096, 8192, 16384, 32768, 65536};
static const uint8_t LITERAL_BITS[36] = {0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 3, 3, 4, 6, 7, 8, 9, 10, 11, 12,
                                         13, 14, 15, 16};
static const uint32_t MATCH_BASE[53] = {3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29,
                                        30, 31, 32, 33, 34, 35, 37, 39, 41, 43, 47, 51, 59, 67, 83, 99, 131, 259, 515, 1027, 2051, 4099,
                                        8195, 16387, 32771, 65539};
static const uint8_t MATCH_BITS[53] = {0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1,
                                       1, 1, 1, 2, 2, 3, 3, 4, 4, 5, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16};

static int highest(uint32_t value)
{
    int bit = -1;

    for (; value; value >>= 1)
        bit++;
    return bit;
}

/* `count` bits (at most 32) that begin at bit `at`, where bits before the stream are zero. */
static uint32_t bits_at(const uint8_t *from, long at, int count)
{
    uint64_t value = 0;
    long first;
    int shift = 0;

    if (at < 0) {
        if (at + count <= 0)
            return 0;
        shift = (int)-at;
        count -= shift;
        at = 0;
    }
    first = at / 8;
    for (int i = (int)((at % 8 + count + 7) / 8) - 1; i >= 0; i--)
        value = value << 8 | from[first + i];
    return (uint32_t)((value >> at % 8 & ((1ULL << count) - 1)) << shift);
}

static int bits_begin(struct bits *bits, const uint8_t *from, size_t size)
{
    if (!size || !from[size - 1])
        return -1;
    bits->from = from;
    bits->at = (long)(size - 1) * 8 + highest(from[size - 1]);
    return 0;
}

static uint32_t bits_take(struct bits *bits, int count)
{
    bits->at -= count;
    return count ? bits_at(bits->from, bits->at, count) : 0;
}

/* Makes a table of how often symbols are (section 4.1.1); -1 is less than once. */
static int table_make(struct table *table, const int16_t *often, int symbols, int log)
{
    uint16_t next[MOST_SYMBOLS];
    int size = 1 << log, high = size - 1, at = 0;

    for (int symbol = 0; symbol < symbols; symbol++) {
        next[symbol] = (uint16_t)(often[symbol] < 0 ? 1 : often[symbol]);
        if (often[symbol] < 0)
            table->cells[high--].symbol = (uint8_t)symbol;
    }
    for (int symbol = 0; symbol < symbols; symbol++)
        for (int i = 0; i < often[symbol]; i++) {
            table->cells[at].symbol = (uint8_t)symbol;
            do
                at = (at + (size >> 1) + (size >> 3) + 3) & (size - 1);
            while (at > high);
        }
    if (at)
        return -1;
    for (int i = 0; i < size; i++) {
        uint32_t state = next[table->cells[i].symbol]++;

        table->cells[i].bits = (uint8_t)(log - highest(state));
        table->cells[i].base = (uint16_t)((state << table->cells[i].bits) - (uint32_t)size);
    }
    table->log = log;
    return 0;
}

/* Reads how often symbols are, and makes the table of it; returns its bytes, or -1. */
static long table_read(struct table *table, const uint8_t *from, size_t size, int most_log, int most_symbols)
{
    int16_t often[MOST_SYMBOLS];
    int symbols = 0, log, count, threshold, left;
    long at = 4, end = (long)size * 8;

    if (!size)
        return -1;
    log = (from[0] & 15) + 5;
    if (log > most_log)
        return -1;
    threshold = 1 << log;
    left = threshold + 1;
    count = log + 1;
    while (left > 1 && symbols < most_symbols) {
        int most = 2 * threshold - 1 - left, value, taken = count - 1;

        if (at + count - 1 > end)
            return -1;
        value = (int)bits_at(from, at, at + count <= end ? count : count - 1);
        if ((value & (threshold - 1)) < most) {
            value &= threshold - 1;
        } else {
            if (at + count > end)
                return -1;
            taken = count;
            if (value >= threshold)
                value -= most;
        }
        at += taken;
        often[symbols++] = (int16_t)--value;
        left -= value < 0 ? 1 : value;
        if (left < 1)
            return -1;
        if (!value) { /* two bits say how many more are zero; three of them, and again */
            int more;

            do {
                if (at + 2 > end)
                    return -1;
                more = (int)bits_at(from, at, 2);
                at += 2;
                if (symbols + more > most_symbols)
                    return -1;
                for (int i = 0; i < more; i++)
                    often[symbols++] = 0;
            } while (more == 3);
        }
        while (left < threshold) {
            threshold >>= 1;
            count--;
        }
    }
    if (left != 1 || table_make(table, often, symbols, log) < 0)
        return -1;
    return (at + 7) / 8;
}

/* Section 4.2.1: weights of the symbols, of which the last one follows from the others; returns their bytes, or -1. */
static long huffman_read(const uint8_t *from, size_t size)
{
    uint8_t weights[MOST_SYMBOLS];
    int count = 0, at = 0;
    uint32_t sum = 0, left;
    long taken;

    if (!size)
        return -1;
    if (from[0] >= 128) {
        count = from[0] - 127;
        taken = 1 + (count + 1) / 2;
        if ((size_t)taken > size)
            return -1;
        for (int i = 0; i < count; i++)
            weights[i] = i & 1 ? from[1 + i / 2] & 15 : from[1 + i / 2] >> 4;
    } else {
        struct bits bits;
        uint32_t state[2];
        long head;

        taken = 1 + from[0];
        if ((size_t)taken > size)
            return -1;
        head = table_read(&weights_table, from + 1, from[0], 6, MOST_WEIGHT + 2);
        if (head < 0 || head >= from[0] || bits_begin(&bits, from + 1 + head, from[0] - (size_t)head) < 0)
            return -1;
        state[0] = bits_take(&bits, weights_table.log);
        state[1] = bits_take(&bits, weights_table.log);
        if (bits.at < 0)
            return -1;
        for (int turn = 0;; turn ^= 1) {
            const struct cell *cell = &weights_table.cells[state[turn]];

            if (count >= MOST_SYMBOLS - 2)
                return -1;
            weights[count++] = cell->symbol;
            if (bits.at < cell->bits) { /* the other state's symbol is the last one */
                weights[count++] = weights_table.cells[state[turn ^ 1]].symbol;
                break;
            }
            state[turn] = cell->base + bits_take(&bits, cell->bits);
        }
    }
    for (int i = 0; i < count; i++) {
        if (weights[i] > MOST_WEIGHT)
            return -1;
        sum += weights[i] ? 1U << (weights[i] - 1) : 0;
    }
    if (!sum)
        return -1;
    huffman_log = highest(sum) + 1;
    left = (1U << huffman_log) - sum;
    if (huffman_log > MOST_WEIGHT || left & (left - 1))
        return -1;
    weights[count++] = (uint8_t)(highest(left) + 1);
    for (int weight = 1; weight <= huffman_log; weight++)
        for (int i = 0; i < count; i++)
            if (weights[i] == weight)
                for (int k = 0; k < 1 << (weight - 1); k++, at++) {
                    huffman[at].symbol = (uint8_t)i;
                    huffman[at].bits = (uint8_t)(huffman_log + 1 - weight);
                }
    return at == 1 << huffman_log ? taken : -1;
}

static int huffman_stream(uint8_t *to, size_t count, const uint8_t *from, size_t size)
{
    struct bits bits;

    if (bits_begin(&bits, from, size) < 0)
        return -1;
    while (count--) {
        uint32_t code = bits_at(bits.from, bits.at - huffman_log, huffman_log);

        *to++ = huffman[code].symbol;
        bits.at -= huffman[code].bits;
        if (bits.at < 0)
            return -1;
    }
    return bits.at ? -1 : 0;
}

/* Section 3.1.1.3.1: the literals of a block; returns the bytes of the section, or -1. */
static long literals_read(const uint8_t *from, size_t size, size_t *count)
{
    int type, form, head;
    uint64_t sizes;
    size_t packed, each, done = 0;
    long tree = 0;
    const uint8_t *at;

    if (!size)
        return -1;
    type = from[0] & 3;
    form = from[0] >> 2 & 3;
    if (type < 2) {
        head = form == 1 ? 2 : form == 3 ? 3 : 1;
        if ((size_t)head > size)
            return -1;
        *count = (size_t)(little(from, head) >> (head == 1 ? 3 : 4));
        packed = type == 0 ? *count : 1;
        if (*count > MOST_BLOCK || packed > size - (size_t)head)
            return -1;
        for (size_t i = 0; i < *count; i++)
            literals[i] = from[(size_t)head + (type == 0 ? i : 0)];
        return head + (long)packed;
    }
    head = form < 2 ? 3 : form + 2;
    if ((size_t)head > size)
        return -1;
    sizes = little(from, head) >> 4;
    *count = (size_t)(sizes & ((1U << (head * 4 - 2)) - 1));
    packed = (size_t)(sizes >> (head * 4 - 2));
    if (*count > MOST_BLOCK || packed > size - (size_t)head)
        return -1;
    at = from + head;
    if (type == 2)
        tree = huffman_read(at, packed);
    else if (!huffman_log)
        return -1;
    if (tree < 0)
        return -1;
    at += tree;
    packed -= (size_t)tree;
    if (form == 0)
        return huffman_stream(literals, *count, at, packed) < 0 ? -1 : head + tree + (long)packed;
    /* Four streams, the sizes of three of them before; all but the last one have the same count. */
    if (packed < 6)
        return -1;
    each = (*count + 3) / 4;
    for (int stream = 0; stream < 4; stream++) {
        size_t begin = 6, length = 0, part;

        for (int i = 0; i < stream; i++)
            begin += (size_t)little(at + 2 * i, 2);
        if (begin > packed || each * (size_t)stream > *count)
            return -1;
        length = stream < 3 ? (size_t)little(at + 2 * stream, 2) : packed - begin;
        part = stream < 3 ? each : *count - done;
        if (length > packed - begin || part > *count - done || huffman_stream(literals + done, part, at + begin, length) < 0)
            return -1;
        done += part;
    }
    return head + tree + (long)packed;
}

/* The table of one of the three codes, as the block's modes say; returns its bytes, or -1. */
static long codes_read(int which, int mode, const uint8_t *from, size_t size)
{
    static const int LOGS[3] = {9, 8, 9}, SYMBOLS[3] = {36, 32, 53}, USUAL_LOGS[3] = {6, 5, 6}, USUAL_COUNTS[3] = {36, 29, 53};
    static const int8_t *const USUAL[3] = {USUAL_LITERALS, USUAL_OFFSETS, USUAL_MATCHES};
    struct table *table = &tables[which];
    int16_t often[MOST_SYMBOLS];

    switch (mode) {
    case 0:
        for (int i = 0; i < USUAL_COUNTS[which]; i++)
            often[i] = USUAL[which][i];
        return table_make(table, often, USUAL_COUNTS[which], USUAL_LOGS[which]);
    case 1:
        if (!size || from[0] >= SYMBOLS[which])
            return -1;
        table->log = 0;
        table->cells[0].symbol = from[0];
        table->cells[0].bits = 0;
        table->cells[0].base = 0;
        return 1;
    case 2:
        return table_read(table, from, size, LOGS[which], SYMBOLS[which]);
    default:
        return table->log < 0 ? -1 : 0;
    }
}

/* Section 3.1.1.5: an offset may be one of the last three. 0 for one that cannot be. */
static uint32_t offset_of(uint32_t value, uint32_t literal)
{
    uint32_t which, offset;

    if (value > 3) {
        offset = value - 3;
        which = 2;
    } else {
        which = value - 1 + (literal == 0);
        offset = which == 3 ? repeated[0] - 1 : repeated[which];
        if (which == 3)
            which = 2;
    }
    for (; which > 0; which--)
        repeated[which] = repeated[which - 1];
    repeated[0] = offset;
    return offset;
}

/* A compressed block: literals, then sequences that say which of them come when, and what is repeated between them. */
static int block(uint8_t *to, size_t *done, size_t end, const uint8_t *from, size_t size)
{
    struct bits bits;
    uint32_t state[3];
    size_t count = 0, used = 0, sequences, begin = *done;
    long taken = literals_read(from, size, &count);

    if (taken < 0)
        return -1;
    from += taken;
    size -= (size_t)taken;
    if (!size)
        return -1;
    sequences = from[0];
    taken = 1;
    if (sequences >= 128) {
        taken = sequences == 255 ? 3 : 2;
        if ((size_t)taken > size)
            return -1;
        sequences = sequences == 255 ? (size_t)little(from + 1, 2) + 0x7F00 : ((sequences - 128) << 8) + from[1];
    }
    from += taken;
    size -= (size_t)taken;
    if (sequences) {
        uint8_t modes;

        if (!size || from[0] & 3)
            return -1;
        modes = *from++;
        size--;
        for (int which = 0; which < 3; which++) {
            taken = codes_read(which, modes >> (6 - 2 * which) & 3, from, size);
            if (taken < 0)
                return -1;
            from += taken;
            size -= (size_t)taken;
        }
        if (bits_begin(&bits, from, size) < 0)
            return -1;
        for (int which = 0; which < 3; which++)
            state[which] = bits_take(&bits, tables[which].log);
    } else if (size) {
        return -1;
    }
    for (size_t i = 0; i < sequences; i++) {
        const struct cell *cell[3];
        uint32_t offset, match, literal;

        for (int which = 0; which < 3; which++)
            cell[which] = &tables[which].cells[state[which]];
        if (cell[OFFSETS]->symbol > 31 || cell[LITERAL_LENGTHS]->symbol > 35 || cell[MATCH_LENGTHS]->symbol > 52)
            return -1;
        offset = (uint32_t)((1ULL << cell[OFFSETS]->symbol) + bits_take(&bits, cell[OFFSETS]->symbol));
        match = MATCH_BASE[cell[MATCH_LENGTHS]->symbol] + bits_take(&bits, MATCH_BITS[cell[MATCH_LENGTHS]->symbol]);
        literal = LITERAL_BASE[cell[LITERAL_LENGTHS]->symbol] + bits_take(&bits, LITERAL_BITS[cell[LITERAL_LENGTHS]->symbol]);
        if (bits.at < 0)
            return -1;
        offset = offset_of(offset, literal);
        if (literal > count - used || literal > end - *done)
            return -1;
        copy_bytes(to + *done, literals + used, literal);
        used += literal;
        *done += literal;
        if (!offset || offset > *done || match > end - *done)
            return -1;
        for (; match; match--, ++*done)
            to[*done] = to[*done - offset];
        if (i + 1 < sequences) {
            static const uint8_t ORDER[3] = {LITERAL_LENGTHS, MATCH_LENGTHS, OFFSETS};

            for (int k = 0; k < 3; k++)
                state[ORDER[k]] = cell[ORDER[k]]->base + bits_take(&bits, cell[ORDER[k]]->bits);
            if (bits.at < 0)
                return -1;
        }
    }
    if ((sequences && bits.at) || count - used > end - *done)
        return -1;
    copy_bytes(to + *done, literals + used, count - used);
    *done += count - used;
    return *done - begin > MOST_BLOCK ? -1 : 0;
}

int zstd_frame(uint8_t *to, size_t near, size_t size, const uint8_t *frame, size_t length)
{
    static const uint8_t SIZES[4] = {0, 2, 4, 8};
    size_t at = 5, done = near, end = near + size, field;
    int alone, last = 0;

    if (length < 6 || little(frame, 4) != 0xFD2FB528 || frame[4] & 0x0F)
        return -1; /* with a checksum, a dictionary's number, or something unknown */
    alone = frame[4] >> 5 & 1;
    field = frame[4] >> 6 ? SIZES[frame[4] >> 6] : (size_t)alone;
    at += !alone;
    if (!field || at + field > length || little(frame + at, (int)field) + (field == 2 ? 256 : 0) != size)
        return -1;
    at += field;
    for (int which = 0; which < 3; which++)
        tables[which].log = -1;
    huffman_log = 0;
    repeated[0] = 1;
    repeated[1] = 4;
    repeated[2] = 8;
    while (!last) {
        uint32_t head;
        size_t part;

        if (length - at < 3)
            return -1;
        head = (uint32_t)little(frame + at, 3);
        at += 3;
        last = head & 1;
        part = head >> 3;
        if ((head >> 1 & 3) == 1) { /* one byte, again and again */
            if (part > end - done || length - at < 1)
                return -1;
            while (part--)
                to[done++] = frame[at];
            at++;
            continue;
        }
        if (part > length - at)
            return -1;
        if ((head >> 1 & 3) == 0) {
            if (part > end - done)
                return -1;
            copy_bytes(to + done, frame + at, part);
            done += part;
        } else if ((head >> 1 & 3) == 3 || block(to, &done, end, frame + at, part) < 0) {
            return -1;
        }
        at += part;
    }
    return done == end && at == length ? 0 : -1;
}

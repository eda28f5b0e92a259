/* The form of an update; all numbers are little-endian. A head of 32 bytes: the mark, then sizes of description, signature and
   index. The description has a fact in each line. The signature is OpenSSH's (PROTOCOL.sshsig), by a key of Ed25519, for the
   use "file". The index has 96 bytes for each piece of the new slot: kind, length, offset in the old slot, how much of that is
   copied or serves as dictionary, length of the stored bytes, and the BLAKE2b digests of the piece and of the stored bytes.
   Stored bytes follow, one behind the other. */
#include "updater.h"

enum { HEAD = 32, MOST_TEXT = 4096, BLOB = 174, KEY_BLOB = 51 };

static const char MARK[] = "yarrik update 1\n";

/* The bytes of base64 (RFC 4648) up to what is none of it; their count, or -1. */
static long from_base64(uint8_t *to, size_t room, const char *text)
{
    uint32_t value = 0;
    size_t count = 0;
    int bits = 0;

    for (; *text && *text != ' ' && *text != '=' && *text != '\n' && *text != '\r'; text++) {
        int c = *text, digit = c >= 'A' && c <= 'Z' ? c - 'A' : c >= 'a' && c <= 'z' ? c - 'a' + 26 : c >= '0' && c <= '9' ? c - '0' + 52
                               : c == '+' ? 62 : c == '/' ? 63 : -1;

        if (digit < 0)
            return -1;
        value = value << 6 | (uint32_t)digit;
        bits += 6;
        if (bits >= 8) {
            bits -= 8;
            if (count == room)
                return -1;
            to[count++] = (uint8_t)(value >> bits);
        }
    }
    return (long)count;
}

static const char KEY_BEGIN[] = "\0\0\0\013ssh-ed25519\0\0\0\040";

/* Public keys, one in each line, as ssh-keygen writes them; lines of others are left out. How many there are. */
int read_keys(struct keys *keys, char *text)
{
    keys->count = 0;
    while (*text && keys->count < MOST_KEYS) {
        uint8_t blob[KEY_BLOB];

        if (begins(text, "ssh-ed25519 ") && from_base64(blob, sizeof blob, text + 12) == KEY_BLOB &&
            same_bytes(blob, KEY_BEGIN, 19))
            copy_bytes(keys->key[keys->count++], blob + 19, 32);
        while (*text && *text != '\n')
            text++;
        text += *text == '\n';
    }
    return (int)keys->count;
}

/* Whether one of the keys signed a text. */
static int signed_by(const struct keys *keys, const uint8_t *text, size_t size, const uint8_t *blob)
{
    static const char AROUND[] = "\0\0\0\4file\0\0\0\0\0\0\0\6sha512";
    static const char INNER[] = "\0\0\0\123\0\0\0\013ssh-ed25519\0\0\0\100";
    uint8_t message[6 + sizeof AROUND - 1 + 4 + 64] = "SSHSIG";

    if (!same_bytes(blob, "SSHSIG\0\0\0\1\0\0\0\063", 14) || !same_bytes(blob + 14, KEY_BEGIN, 19) ||
        !same_bytes(blob + 65, AROUND, sizeof AROUND - 1) || !same_bytes(blob + 65 + sizeof AROUND - 1, INNER, sizeof INNER - 1))
        return 0;
    copy_bytes(message + 6, AROUND, sizeof AROUND - 1);
    copy_bytes(message + 6 + sizeof AROUND - 1, "\0\0\0\100", 4);
    sha512(message + sizeof message - 64, text, size);
    for (unsigned i = 0; i < keys->count; i++)
        if (same_bytes(keys->key[i], blob + 33, 32))
            return ed25519_fits(blob + BLOB - 64, message, sizeof message, keys->key[i]);
    return 0;
}

/* The value of a line that begins with `key`; what follows it is at `*text` then. */
static int line_of(char **text, const char *key, char *to, size_t room)
{
    char *at = *text;
    size_t length = 0;

    if (!begins(at, key) || at[length_of(key)] != ' ')
        return -1;
    for (at += length_of(key) + 1; *at && *at != '\n'; at++) {
        if (length + 1 >= room)
            return -1;
        to[length++] = *at;
    }
    to[length] = 0;
    *text = at + 1;
    return *at == '\n' && length ? 0 : -1;
}

static int number_line(char **text, const char *key, uint64_t *value)
{
    char line[24];
    const char *at = line;

    return line_of(text, key, line, sizeof line) < 0 || number_in(&at, value) < 0 || *at ? -1 : 0;
}

static int digest_line(char **text, const char *key, uint8_t digest[32])
{
    char line[66];

    if (line_of(text, key, line, sizeof line) < 0 || length_of(line) != 64)
        return -1;
    for (int i = 0; i < 64; i++) {
        int c = line[i], digit = c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;

        if (digit < 0)
            return -1;
        digest[i / 2] = (uint8_t)(i & 1 ? digest[i / 2] | digit : digit << 4);
    }
    return 0;
}

/* Up to four numbers of nine digits. */
int version_fits(const char *text)
{
    for (int parts = 1;; parts++) {
        uint64_t value;
        const char *begin = text;

        if (number_in(&text, &value) < 0 || text - begin > 9 || parts > 4)
            return 0;
        if (!*text)
            return 1;
        if (*text++ != '.')
            return 0;
    }
}

/* Negative when the first one is lower. */
int version_order(const char *one, const char *other)
{
    for (int part = 0; part < 4; part++) {
        uint64_t a = 0, b = 0;

        number_in(&one, &a);
        number_in(&other, &b);
        if (a != b)
            return a < b ? -1 : 1;
        one += *one == '.';
        other += *other == '.';
    }
    return 0;
}

static int description_read(struct description *about, char *text)
{
    char word[8], writes[8];
    uint64_t form;

    if (number_line(&text, "update", &form) < 0 || form != 1 || line_of(&text, "writes", writes, sizeof writes) < 0 ||
        line_of(&text, "product", about->product, NAME) < 0 ||
        line_of(&text, "board", about->board, NAME) < 0 || line_of(&text, "version", about->version, NAME) < 0 ||
        line_of(&text, "older", word, sizeof word) < 0 || number_line(&text, "size", &about->size) < 0 ||
        number_line(&text, "pieces", &about->pieces) < 0 || digest_line(&text, "index", about->index) < 0 ||
        line_of(&text, "start", about->start, NAME) < 0 || *text)
        return -1;
    about->whole_disk = same_text(writes, "disk");
    if (!about->whole_disk && !same_text(writes, "slot"))
        return -1;
    about->older = same_text(word, "yes");
    if (!about->older && !same_text(word, "no"))
        return -1;
    if (same_text(about->start, "-"))
        about->start[0] = 0;
    if (!version_fits(about->version) || (about->start[0] && !version_fits(about->start)))
        return -1;
    return about->size && about->size <= 1ULL << 44 && about->pieces && about->pieces <= MOST_INDEX / PIECE ? 0 : -1;
}

/* Reads what is signed, and checks the signature before anything of it is used. */
int bundle_open(struct bundle *bundle, struct source *source, const struct keys *keys)
{
    static uint8_t text[MOST_TEXT + 1];
    uint8_t head[HEAD], blob[BLOB];
    uint32_t size;

    if (source_read(source, 0, head, HEAD) < 0)
        return -1;
    size = (uint32_t)little(head + 16, 4);
    bundle->index_size = (uint32_t)little(head + 24, 4);
    if (!same_bytes(head, MARK, 16) || little(head + 28, 4))
        return fail("it is no update of this form");
    if (!size || size > MOST_TEXT || little(head + 20, 4) != BLOB || !bundle->index_size || bundle->index_size > MOST_INDEX)
        return fail("the update's head has sizes that cannot be");
    if (source_read(source, HEAD, text, size) < 0 || source_read(source, HEAD + size, blob, BLOB) < 0)
        return -1;
    text[size] = 0;
    if (!signed_by(keys, text, size, blob))
        return fail("none of the board's keys signed the update");
    if (length_of((char *)text) != size || description_read(&bundle->about, (char *)text) < 0)
        return fail("the update's description is not of the form that is known here");
    bundle->index_at = HEAD + (uint64_t)size + BLOB;
    bundle->body = bundle->index_at + bundle->index_size;
    if (bundle->index_size != bundle->about.pieces * PIECE)
        return fail("the update's index has another size than was signed");
    return 0;
}

void index_piece(struct piece *piece, const uint8_t *index, uint64_t number)
{
    const uint8_t *row = index + number * PIECE;

    piece->kind = (uint32_t)little(row, 4);
    piece->length = (uint32_t)little(row + 4, 4);
    piece->old = little(row + 8, 8);
    piece->reach = (uint32_t)little(row + 16, 4);
    piece->stored = (uint32_t)little(row + 20, 4);
    piece->digest = row + 32;
    piece->of_stored = row + 64;
}

/* Whether the index is the signed one, and all ranges in it can be. */
int index_check(const struct bundle *bundle, const uint8_t *index, uint64_t old_size)
{
    uint8_t digest[32];
    uint64_t whole = 0;

    blake2b(digest, index, bundle->index_size);
    if (!same_bytes(digest, bundle->about.index, 32))
        return fail("the update's index is not the one that was signed");
    for (uint64_t number = 0; number < bundle->about.pieces; number++) {
        struct piece piece;

        index_piece(&piece, index, number);
        if (piece.kind > DATA || !piece.length || piece.length > (piece.kind == ZERO ? 1U << 30 : (unsigned)LONGEST) ||
            piece.reach > LONGEST || piece.stored > LONGEST || piece.old > old_size || piece.reach > old_size - piece.old ||
            (piece.kind == DATA) != (piece.stored > 0) || (piece.kind == COPY && piece.reach != piece.length) ||
            (piece.kind == ZERO && (piece.reach || piece.old)) || little(index + number * PIECE + 24, 8))
            return fail("the update's index has a piece that cannot be");
        whole += piece.length;
    }
    return whole == bundle->about.size ? 0 : fail("the update's pieces do not make up the new slot");
}

/* Checks signatures of Ed25519 (RFC 8032, section 5.1.7). All that it works on is public, so it need not take the same time.

   A number of the field modulo p = 2^255 - 19 has eight words, the lowest first, and is below 2^256: 2^256 is 38 modulo p. */
#include "updater.h"

typedef uint32_t field[8];

static const field D2 = {0x26B2F159, 0xEBD69B94, 0x8283B156, 0x00E0149A, 0xEEF3D130, 0x198E80F2, 0x56DFFCE7, 0x2406D9DC};
static const field D = {0x135978A3, 0x75EB4DCA, 0x4141D8AB, 0x00700A4D, 0x7779E898, 0x8CC74079, 0x2B6FFE73, 0x52036CEE};
static const field ROOT = {0x4A0EA0B0, 0xC4EE1B27, 0xAD2FE478, 0x2F431806, 0x3DFBD7A7, 0x2B4D0099, 0x4FC1DF0B, 0x2B832480};
static const field BASE_X = {0x8F25D51A, 0xC9562D60, 0x9525A7B2, 0x692CC760, 0xFDD6DC5C, 0xC0A4E231, 0xCD6E53FE, 0x216936D3};
static const field BASE_Y = {0x66666658, 0x66666666, 0x66666666, 0x66666666, 0x66666666, 0x66666666, 0x66666666, 0x66666666};
static const uint32_t ORDER[8] = {0x5CF5D3ED, 0x5812631A, 0xA2F79CD6, 0x14DEF9DE, 0x00000000, 0x00000000, 0x00000000, 0x10000000};

static void set(field to, const field from)
{
    copy_bytes(to, from, sizeof(field));
}

/* What is carried out of 256 bits comes in again, 38 times; twice, since that may carry again. */
static void fold(field to, uint64_t carry)
{
    for (int turn = 0; turn < 3 && carry; turn++) {
        carry *= 38;
        for (int i = 0; i < 8; i++) {
            carry += to[i];
            to[i] = (uint32_t)carry;
            carry >>= 32;
        }
    }
}

static void sum(field to, const field a, const field b)
{
    uint64_t carry = 0;

    for (int i = 0; i < 8; i++) {
        carry += (uint64_t)a[i] + b[i];
        to[i] = (uint32_t)carry;
        carry >>= 32;
    }
    fold(to, carry);
}

static void difference(field to, const field a, const field b)
{
    int64_t borrow = 0;

    for (int i = 0; i < 8; i++) {
        borrow += (int64_t)a[i] - b[i];
        to[i] = (uint32_t)borrow;
        borrow >>= 32;
    }
    while (borrow) { /* 2^256 too much: 38 less */
        borrow = -38;
        for (int i = 0; i < 8; i++) {
            borrow += to[i];
            to[i] = (uint32_t)borrow;
            borrow >>= 32;
        }
    }
}

static void product(field to, const field a, const field b)
{
    uint32_t whole[16];
    uint64_t carry = 0;

    clear_bytes(whole, sizeof whole);
    for (int i = 0; i < 8; i++) {
        carry = 0;
        for (int k = 0; k < 8; k++) {
            carry += (uint64_t)a[i] * b[k] + whole[i + k];
            whole[i + k] = (uint32_t)carry;
            carry >>= 32;
        }
        whole[i + 8] = (uint32_t)carry;
    }
    carry = 0;
    for (int i = 0; i < 8; i++) {
        carry += (uint64_t)whole[i + 8] * 38 + whole[i];
        to[i] = (uint32_t)carry;
        carry >>= 32;
    }
    fold(to, carry);
}

/* The one form of a number that is below p. */
static void settle(field a)
{
    for (int turn = 0; turn < 2; turn++) {
        uint32_t less[8];
        int64_t borrow = 19;

        for (int i = 0; i < 8; i++) {
            borrow += (int64_t)a[i] - (i == 7 ? 0x80000000 : 0);
            less[i] = (uint32_t)borrow;
            borrow >>= 32;
        }
        if (borrow >= 0)
            set(a, less);
    }
}

static int same(const field a, const field b)
{
    field one, other;

    set(one, a);
    set(other, b);
    settle(one);
    settle(other);
    return same_bytes(one, other, sizeof(field));
}

/* a^((p - 5) / 8) = a^(2^252 - 3), for square roots; a^(p - 2) inverts. The exponents are ones but for their lowest bits. */
static void power(field to, const field a, int bits, unsigned lowest)
{
    field result;

    set(result, a);
    for (int bit = bits - 2; bit >= 0; bit--) {
        product(result, result, result);
        if (bit > 4 || lowest >> bit & 1)
            product(result, result, a);
    }
    set(to, result);
}

/* A point (x/z, y/z), with t = xy/z. */
struct point {
    field x, y, z, t;
};

/* Adds points, the same one too (section 5.1.4). */
static void add(struct point *to, const struct point *p, const struct point *q)
{
    field a, b, c, d, e, f, g, h;

    difference(a, p->y, p->x);
    difference(b, q->y, q->x);
    product(a, a, b);
    sum(b, p->y, p->x);
    sum(c, q->y, q->x);
    product(b, b, c);
    product(c, p->t, q->t);
    product(c, c, D2);
    product(d, p->z, q->z);
    sum(d, d, d);
    difference(e, b, a);
    difference(f, d, c);
    sum(g, d, c);
    sum(h, b, a);
    product(to->x, e, f);
    product(to->y, g, h);
    product(to->t, e, h);
    product(to->z, f, g);
}

static void words_of(field to, const uint8_t *bytes)
{
    for (int i = 0; i < 8; i++)
        to[i] = (uint32_t)little(bytes + 4 * i, 4);
}

static int below(const uint32_t a[8], const uint32_t b[8])
{
    for (int i = 7; i >= 0; i--)
        if (a[i] != b[i])
            return a[i] < b[i];
    return 0;
}

/* Section 5.1.3; 0 for bytes that are no point. */
static int point_of(struct point *point, const uint8_t bytes[32])
{
    static const field ONE = {1};
    field u, v, w, x, y, settled;
    int odd = bytes[31] >> 7;

    words_of(y, bytes);
    y[7] &= 0x7FFFFFFF;
    set(settled, y);
    settle(settled);
    if (!same_bytes(settled, y, sizeof(field)))
        return 0;
    product(u, y, y);
    product(v, u, D);
    difference(u, u, ONE);
    sum(v, v, ONE);
    /* x = u v^3 (u v^7)^((p - 5) / 8) */
    product(w, v, v);
    product(w, w, v);
    product(x, w, w);
    product(x, x, v);
    product(x, x, u);
    power(x, x, 252, 0x1D);
    product(x, x, w);
    product(x, x, u);
    product(w, x, x);
    product(w, w, v);
    if (!same(w, u)) {
        field zero = {0};

        difference(u, zero, u);
        if (!same(w, u))
            return 0;
        product(x, x, ROOT);
    }
    settle(x);
    if ((int)(x[0] & 1) != odd) {
        field zero = {0};

        if (same(x, zero))
            return 0;
        difference(x, zero, x);
    }
    set(point->x, x);
    set(point->y, y);
    set(point->z, ONE);
    product(point->t, x, y);
    return 1;
}

/* A number of 512 bits modulo the order of the base point, a bit after the other. */
static void reduced(uint32_t to[8], const uint8_t bytes[64])
{
    clear_bytes(to, 32);
    for (int bit = 511; bit >= 0; bit--) {
        uint32_t carry = bytes[bit / 8] >> bit % 8 & 1;

        for (int i = 0; i < 8; i++) {
            uint32_t next = to[i] >> 31;

            to[i] = to[i] << 1 | carry;
            carry = next;
        }
        if (!below(to, ORDER)) {
            int64_t borrow = 0;

            for (int i = 0; i < 8; i++) {
                borrow += (int64_t)to[i] - ORDER[i];
                to[i] = (uint32_t)borrow;
                borrow >>= 32;
            }
        }
    }
}

int ed25519_fits(const uint8_t signature[64], const uint8_t *message, size_t size, const uint8_t key[32])
{
    static uint8_t text[1024];
    struct point base, sums[4], point = {{0}, {1}, {1}, {0}};
    uint32_t s[8], k[8];
    uint8_t digest[64], encoded[32];
    field zero = {0}, inverse;

    if (size > sizeof text - 64 || !point_of(&sums[2], key))
        return 0;
    words_of(s, signature + 32);
    if (!below(s, ORDER))
        return 0;
    copy_bytes(text, signature, 32);
    copy_bytes(text + 32, key, 32);
    copy_bytes(text + 64, message, size);
    sha512(digest, text, size + 64);
    reduced(k, digest);
    /* S B - k A has to be R: bit by bit, with what is added for each pair of bits made before. */
    difference(sums[2].x, zero, sums[2].x);
    difference(sums[2].t, zero, sums[2].t);
    set(base.x, BASE_X);
    set(base.y, BASE_Y);
    set(base.z, point.z);
    product(base.t, BASE_X, BASE_Y);
    sums[1] = base;
    add(&sums[3], &sums[1], &sums[2]);
    for (int bit = 255; bit >= 0; bit--) {
        unsigned which = (s[bit / 32] >> bit % 32 & 1) | (k[bit / 32] >> bit % 32 & 1) << 1;

        add(&point, &point, &point);
        if (which)
            add(&point, &point, &sums[which]);
    }
    power(inverse, point.z, 255, 0xB);
    product(point.x, point.x, inverse);
    product(point.y, point.y, inverse);
    settle(point.x);
    settle(point.y);
    for (int i = 0; i < 32; i++)
        encoded[i] = (uint8_t)(point.y[i / 4] >> 8 * (i % 4));
    encoded[31] |= (uint8_t)((point.x[0] & 1) << 7);
    return same_bytes(encoded, signature, 32);
}

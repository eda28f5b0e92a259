/* BLAKE2b of 32 bytes (RFC 7693), SHA-512 (RFC 6234), and the CRC-32 of IEEE 802.3. */
#include "constants.h"
#include "updater.h"

static uint64_t turned(uint64_t value, int by)
{
    return value >> by | value << (64 - by);
}

static const uint8_t SIGMA[10][16] = {
    {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15},
    {14, 10, 4, 8, 9, 15, 13, 6, 1, 12, 0, 2, 11, 7, 5, 3},
    {11, 8, 12, 0, 5, 2, 15, 13, 10, 14, 3, 6, 7, 1, 9, 4},
    {7, 9, 3, 1, 13, 12, 11, 14, 2, 6, 5, 10, 4, 0, 15, 8},
    {9, 0, 5, 7, 2, 4, 10, 15, 14, 1, 11, 12, 6, 8, 3, 13},
    {2, 12, 6, 10, 0, 11, 8, 3, 4, 13, 7, 5, 15, 14, 1, 9},
    {12, 5, 1, 15, 14, 13, 4, 10, 0, 7, 6, 3, 9, 2, 8, 11},
    {13, 11, 7, 14, 12, 1, 3, 9, 5, 0, 15, 4, 8, 6, 2, 10},
    {6, 15, 14, 9, 11, 3, 0, 8, 12, 2, 13, 7, 1, 4, 10, 5},
    {10, 2, 8, 4, 7, 6, 1, 5, 15, 11, 9, 14, 3, 12, 13, 0},
};

#define MIX(a, b, c, d, x, y) \
    do { \
        v[a] += v[b] + (x); \
        v[d] = turned(v[d] ^ v[a], 32); \
        v[c] += v[d]; \
        v[b] = turned(v[b] ^ v[c], 24); \
        v[a] += v[b] + (y); \
        v[d] = turned(v[d] ^ v[a], 16); \
        v[c] += v[d]; \
        v[b] = turned(v[b] ^ v[c], 63); \
    } while (0)

static void blake2b_block(uint64_t state[8], const uint8_t *block, uint64_t done, int last)
{
    uint64_t v[16], m[16];

    for (int i = 0; i < 8; i++) {
        v[i] = state[i];
        v[i + 8] = SHA512_START[i];
    }
    v[12] ^= done;
    if (last)
        v[14] = ~v[14];
    for (int i = 0; i < 16; i++)
        m[i] = word_at(block + 8 * i);
#pragma GCC unroll 12
    for (int round = 0; round < 12; round++) {
        const uint8_t *s = SIGMA[round % 10];

        MIX(0, 4, 8, 12, m[s[0]], m[s[1]]);
        MIX(1, 5, 9, 13, m[s[2]], m[s[3]]);
        MIX(2, 6, 10, 14, m[s[4]], m[s[5]]);
        MIX(3, 7, 11, 15, m[s[6]], m[s[7]]);
        MIX(0, 5, 10, 15, m[s[8]], m[s[9]]);
        MIX(1, 6, 11, 12, m[s[10]], m[s[11]]);
        MIX(2, 7, 8, 13, m[s[12]], m[s[13]]);
        MIX(3, 4, 9, 14, m[s[14]], m[s[15]]);
    }
    for (int i = 0; i < 8; i++)
        state[i] ^= v[i] ^ v[i + 8];
}

void blake2b(uint8_t digest[32], const uint8_t *data, size_t size)
{
    uint64_t state[8], done = 0;
    uint8_t last[128];

    for (int i = 0; i < 8; i++)
        state[i] = SHA512_START[i];
    state[0] ^= 0x01010000 ^ 32;
    for (; size > 128; size -= 128, data += 128) {
        done += 128;
        blake2b_block(state, data, done, 0);
    }
    clear_bytes(last, sizeof last);
    copy_bytes(last, data, size);
    blake2b_block(state, last, done + size, 1);
    for (int i = 0; i < 32; i++)
        digest[i] = (uint8_t)(state[i / 8] >> 8 * (i % 8));
}

/* Cube roots of the first 80 primes (RFC 6234, section 5.2). */
static const uint64_t SHA512_ROUND[80] = {
    0x428A2F98D728AE22, 0x7137449123EF65CD, 0xB5C0FBCFEC4D3B2F, 0xE9B5DBA58189DBBC,
    0x3956C25BF348B538, 0x59F111F1B605D019, 0x923F82A4AF194F9B, 0xAB1C5ED5DA6D8118,
    0xD807AA98A3030242, 0x12835B0145706FBE, 0x243185BE4EE4B28C, 0x550C7DC3D5FFB4E2,
    0x72BE5D74F27B896F, 0x80DEB1FE3B1696B1, 0x9BDC06A725C71235, 0xC19BF174CF692694,
    0xE49B69C19EF14AD2, 0xEFBE4786384F25E3, 0x0FC19DC68B8CD5B5, 0x240CA1CC77AC9C65,
    0x2DE92C6F592B0275, 0x4A7484AA6EA6E483, 0x5CB0A9DCBD41FBD4, 0x76F988DA831153B5,
    0x983E5152EE66DFAB, 0xA831C66D2DB43210, 0xB00327C898FB213F, 0xBF597FC7BEEF0EE4,
    0xC6E00BF33DA88FC2, 0xD5A79147930AA725, 0x06CA6351E003826F, 0x142929670A0E6E70,
    0x27B70A8546D22FFC, 0x2E1B21385C26C926, 0x4D2C6DFC5AC42AED, 0x53380D139D95B3DF,
    0x650A73548BAF63DE, 0x766A0ABB3C77B2A8, 0x81C2C92E47EDAEE6, 0x92722C851482353B,
    0xA2BFE8A14CF10364, 0xA81A664BBC423001, 0xC24B8B70D0F89791, 0xC76C51A30654BE30,
    0xD192E819D6EF5218, 0xD69906245565A910, 0xF40E35855771202A, 0x106AA07032BBD1B8,
    0x19A4C116B8D2D0C8, 0x1E376C085141AB53, 0x2748774CDF8EEB99, 0x34B0BCB5E19B48A8,
    0x391C0CB3C5C95A63, 0x4ED8AA4AE3418ACB, 0x5B9CCA4F7763E373, 0x682E6FF3D6B2B8A3,
    0x748F82EE5DEFB2FC, 0x78A5636F43172F60, 0x84C87814A1F0AB72, 0x8CC702081A6439EC,
    0x90BEFFFA23631E28, 0xA4506CEBDE82BDE9, 0xBEF9A3F7B2C67915, 0xC67178F2E372532B,
    0xCA273ECEEA26619C, 0xD186B8C721C0C207, 0xEADA7DD6CDE0EB1E, 0xF57D4F7FEE6ED178,
    0x06F067AA72176FBA, 0x0A637DC5A2C898A6, 0x113F9804BEF90DAE, 0x1B710B35131C471B,
    0x28DB77F523047D84, 0x32CAAB7B40C72493, 0x3C9EBE0A15C9BEBC, 0x431D67C49C100D4C,
    0x4CC5D4BECB3E42B6, 0x597F299CFC657E2A, 0x5FCB6FAB3AD6FAEC, 0x6C44198C4A475817,
};

static uint64_t big(const uint8_t *from)
{
    uint64_t value = 0;

    for (int i = 0; i < 8; i++)
        value = value << 8 | from[i];
    return value;
}

static void sha512_block(uint64_t state[8], const uint8_t *block)
{
    uint64_t w[80], v[8];

    for (int i = 0; i < 16; i++)
        w[i] = big(block + 8 * i);
    for (int i = 16; i < 80; i++) {
        uint64_t one = w[i - 15], two = w[i - 2];

        w[i] = w[i - 16] + (turned(one, 1) ^ turned(one, 8) ^ one >> 7) + w[i - 7] + (turned(two, 19) ^ turned(two, 61) ^ two >> 6);
    }
    for (int i = 0; i < 8; i++)
        v[i] = state[i];
    for (int i = 0; i < 80; i++) {
        uint64_t one = v[7] + (turned(v[4], 14) ^ turned(v[4], 18) ^ turned(v[4], 41)) + ((v[4] & v[5]) ^ (~v[4] & v[6])) + SHA512_ROUND[i] + w[i];
        uint64_t two = (turned(v[0], 28) ^ turned(v[0], 34) ^ turned(v[0], 39)) + ((v[0] & v[1]) ^ (v[0] & v[2]) ^ (v[1] & v[2]));

        for (int k = 7; k > 0; k--)
            v[k] = v[k - 1];
        v[4] += one;
        v[0] = one + two;
    }
    for (int i = 0; i < 8; i++)
        state[i] += v[i];
}

void sha512(uint8_t digest[64], const uint8_t *data, size_t size)
{
    uint64_t state[8], bits = (uint64_t)size * 8;
    uint8_t last[256];
    size_t room;

    for (int i = 0; i < 8; i++)
        state[i] = SHA512_START[i];
    for (; size >= 128; size -= 128, data += 128)
        sha512_block(state, data);
    clear_bytes(last, sizeof last);
    copy_bytes(last, data, size);
    last[size] = 0x80;
    room = size < 112 ? 128 : 256;
    for (int i = 0; i < 8; i++)
        last[room - 1 - (size_t)i] = (uint8_t)(bits >> 8 * i);
    sha512_block(state, last);
    if (room == 256)
        sha512_block(state, last + 128);
    for (int i = 0; i < 64; i++)
        digest[i] = (uint8_t)(state[i / 8] >> (56 - 8 * (i % 8)));
}

uint32_t crc32(const uint8_t *data, size_t size)
{
    uint32_t crc = 0xFFFFFFFF;

    while (size--) {
        crc ^= *data++;
        for (int bit = 0; bit < 8; bit++)
            crc = crc >> 1 ^ (crc & 1 ? 0xEDB88320 : 0);
    }
    return ~crc;
}

/* Numbers that the standards give: made from their definitions. */
#ifndef CONSTANTS_H
#define CONSTANTS_H

#include <stdint.h>

/* Square roots of the first 8 primes (RFC 6234, section 6.3). */
static const uint64_t SHA512_START[8] = {
    0x6A09E667F3BCC908, 0xBB67AE8584CAA73B, 0x3C6EF372FE94F82B, 0xA54FF53A5F1D36F1,
    0x510E527FADE682D1, 0x9B05688C2B3E6C1F, 0x1F83D9ABFB41BD6B, 0x5BE0CD19137E2179,
};

#endif

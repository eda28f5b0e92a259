/* The stand-in kernel: reads the device tree it was given, says what it finds on the serial port, powers off.
   It runs with the memory management unit off, so every access is aligned and nothing is assumed to be cached. */
typedef unsigned char u8;
typedef unsigned int u32;
typedef unsigned long u64;

void psci_off(u64 by_smc);

static u64 serial;

static u32 big(const u8 *at)
{
    return (u32)at[0] << 24 | (u32)at[1] << 16 | (u32)at[2] << 8 | at[3];
}

static int same(const char *a, const char *b)
{
    while (*a && *a == *b)
        a++, b++;
    return *a == *b;
}

/* A PL011 serial port: data at 0x00, flags at 0x18 with "transmit queue full" in bit 5. */
static void put(char c)
{
    if (!serial)
        return;
    while (*(volatile u32 *)(serial + 0x18) & 1 << 5)
        ;
    *(volatile u32 *)serial = (u8)c;
}

static void say(const char *text)
{
    for (; *text; text++) {
        if (*text == '\n')
            put('\r');
        put(*text);
    }
}

/* Whether a list of strings, as in `compatible`, holds a word. */
static int lists(const char *value, u32 length, const char *word)
{
    u32 at = 0;

    while (at < length) {
        if (same(value + at, word))
            return 1;
        while (at < length && value[at])
            at++;
        at++;
    }
    return 0;
}

void stand_in(const u8 *tree)
{
    const char *model = "(none)", *arguments = "(none)";
    u64 by_smc = 0;

    if (big(tree) == 0xd00dfeed) {
        const u8 *at = tree + big(tree + 8);
        const char *names = (const char *)tree + big(tree + 12);
        const char *node = "";
        int depth = 0, is_serial = 0;
        u64 place = 0;

        for (;;) {
            u32 token = big(at);

            at += 4;
            if (token == 1) {                       /* a node begins */
                node = (const char *)at;
                while (*at)
                    at++;
                at = (const u8 *)(((u64)at + 4) & ~3UL);
                depth++;
                is_serial = 0;
                place = 0;
            } else if (token == 2) {                /* a node ends */
                depth--;
                node = "";
            } else if (token == 3) {                /* a property */
                u32 length = big(at);
                const char *name = names + big(at + 4);
                const char *value = (const char *)at + 8;

                if (depth == 1 && same(name, "model"))
                    model = value;
                if (depth == 2 && same(node, "chosen") && same(name, "bootargs"))
                    arguments = value;
                if (depth == 2 && same(node, "psci") && same(name, "method"))
                    by_smc = same(value, "smc");
                if (same(name, "compatible") && lists(value, length, "arm,pl011"))
                    is_serial = 1;
                if (same(name, "reg") && length >= 8)
                    place = (u64)big(at + 8) << 32 | big(at + 12);
                if (is_serial && place && !serial)
                    serial = place;
                at += 8 + ((length + 3) & ~3U);
            } else if (token != 4) {                /* the end, or nothing we know */
                break;
            }
        }
    }
    say("\nstand-in kernel 1.0 for " OWNER "\nmodel: ");
    say(model);
    say("\ncommand line: ");
    say(arguments);
    say("\nstand-in: powering off\n");
    psci_off(by_smc);
}

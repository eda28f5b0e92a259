/* Draws a row of figures as a line: as PNG (with stored, uncompressed data) or as SVG. */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include "plot.h"

enum { WIDTH = 320, HEIGHT = 120 };

static void range_of(const double *figures, int count, double *low, double *high)
{
    *low = *high = count ? figures[0] : 0;
    for (int i = 1; i < count; i++) {
        *low = figures[i] < *low ? figures[i] : *low;
        *high = figures[i] > *high ? figures[i] : *high;
    }
    if (*high - *low < 1e-6)
        *high = *low + 1;
}

static int row_at(const double *figures, int count, int column, double low, double high)
{
    int index = count > 1 ? column * (count - 1) / (WIDTH - 1) : 0;

    return (int)((HEIGHT - 1) * (high - figures[index]) / (high - low));
}

#if PLOT_PNG
static uint32_t crc_of(const unsigned char *data, size_t size)
{
    uint32_t crc = 0xffffffff;

    for (size_t i = 0; i < size; i++) {
        crc ^= data[i];
        for (int bit = 0; bit < 8; bit++)
            crc = crc >> 1 ^ (crc & 1 ? 0xedb88320 : 0);
    }
    return ~crc;
}

static void put_number(unsigned char *at, uint32_t number)
{
    at[0] = number >> 24, at[1] = number >> 16, at[2] = number >> 8, at[3] = number;
}

static int put_chunk(FILE *file, unsigned char *chunk, uint32_t size)
{
    unsigned char head[4], tail[4];

    put_number(head, size);
    put_number(tail, crc_of(chunk, size + 4));
    return fwrite(head, 4, 1, file) == 1 && fwrite(chunk, size + 4, 1, file) == 1 && fwrite(tail, 4, 1, file) == 1;
}

static int write_png(FILE *file, const double *figures, int count)
{
    enum { LINE = WIDTH + 1, DATA = LINE * HEIGHT };
    static unsigned char chunk[4 + 2 + 5 + DATA + 4];
    unsigned char *line = chunk + 4 + 2 + 5;
    uint32_t a = 1, b = 0;
    double low, high;
    int fine;

    memcpy(chunk, "IHDR", 4);
    put_number(chunk + 4, WIDTH);
    put_number(chunk + 8, HEIGHT);
    memcpy(chunk + 12, "\x08\x00\x00\x00\x00", 5); /* 8 bits, grey */
    fine = fwrite("\x89PNG\r\n\x1a\n", 8, 1, file) == 1 && put_chunk(file, chunk, 13);
    range_of(figures, count, &low, &high);
    memcpy(chunk, "IDAT\x78\x01\x01", 7);
    chunk[7] = DATA & 0xff, chunk[8] = DATA >> 8, chunk[9] = ~DATA & 0xff, chunk[10] = (~DATA >> 8) & 0xff;
    memset(line, 0xff, DATA);
    for (int row = 0; row < HEIGHT; row++)
        line[row * LINE] = 0;
    for (int column = 0; count && column < WIDTH; column++)
        line[row_at(figures, count, column, low, high) * LINE + 1 + column] = 0;
    for (int i = 0; i < DATA; i++)
        a = (a + line[i]) % 65521, b = (b + a) % 65521;
    put_number(line + DATA, b << 16 | a);
    fine = fine && put_chunk(file, chunk, 2 + 5 + DATA + 4);
    memcpy(chunk, "IEND", 4);
    return fine && put_chunk(file, chunk, 0) ? 0 : -1;
}
#endif

#if PLOT_SVG
static int write_svg(FILE *file, const double *figures, int count)
{
    double low, high;

    range_of(figures, count, &low, &high);
    fprintf(file, "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"%d\" height=\"%d\">\n<polyline fill=\"none\" stroke=\"%s\" points=\"",
            WIDTH, HEIGHT, PLOT_COLOUR ? "navy" : "black");
    for (int column = 0; count && column < WIDTH; column++)
        fprintf(file, "%d,%d ", column, row_at(figures, count, column, low, high));
    return fprintf(file, "\"/>\n</svg>\n") > 0 ? 0 : -1;
}
#endif

int plot_write(const char *path, const double *figures, int count)
{
    const char *end = strrchr(path, '.');
    int (*write)(FILE *, const double *, int) = NULL;
    FILE *file;
    int answer;

#if PLOT_PNG
    if (end && strcmp(end, ".png") == 0)
        write = write_png;
#endif
#if PLOT_SVG
    if (end && strcmp(end, ".svg") == 0)
        write = write_svg;
#endif
    if (!write || !end)
        return -2;
    file = fopen(path, "w");
    if (!file)
        return -1;
    answer = write(file, figures, count);
    return fclose(file) == 0 ? answer : -1;
}

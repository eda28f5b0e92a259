/* tide-screen FONT LOG: shows the last readings of the tide log on a screen, as a curve or as a table; any key turns the page.

   A new picture is drawn for each new reading and for each key. Keys are read from all of /dev/input. */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/input.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <tide.h>
#include <unistd.h>

#include "screen.h"

enum { SHOWN = 60, MOST_KEYBOARDS = 8, LOWEST = -4, HIGHEST = 4, PAGES = 2 };

static const uint32_t WATER = 0x1f4e79, PAPER = 0xf5f2e8, INK = 0x20262b, LINES = 0xc9c3b0;

static struct tide_record records[SHOWN];
static int record_count;

/* Takes in what the log has now. Returns the number of the last reading, or 0. */
static long read_log(const char *path)
{
    struct tide_record record;
    FILE *log = fopen(path, "r");
    int got, all = 0;

    while (log && (got = tide_read(log, &record)) != 0)
        if (got > 0)
            records[all++ % SHOWN] = record;
    if (log)
        fclose(log);
    if (all > SHOWN) { /* the oldest first */
        struct tide_record turned[SHOWN];
        for (int i = 0; i < SHOWN; i++)
            turned[i] = records[(all + i) % SHOWN];
        memcpy(records, turned, sizeof turned);
    }
    record_count = all < SHOWN ? all : SHOWN;
    return record_count ? records[record_count - 1].number : 0;
}

static void fill(struct screen *screen, int x, int y, int width, int height, uint32_t colour)
{
    for (int row = y < 0 ? 0 : y; row < y + height && row < screen->height; row++)
        for (int column = x < 0 ? 0 : x; column < x + width && column < screen->width; column++)
            screen->dots[(uint32_t)row * screen->stride + (uint32_t)column] = colour;
}

static void draw_curve(struct screen *screen, int top, int bottom)
{
    int width = screen->width - 160, before = 0;

    for (int metre = LOWEST; metre <= HIGHEST; metre += 2) {
        int y = bottom - (metre - LOWEST) * (bottom - top) / (HIGHEST - LOWEST);
        char text[16];
        snprintf(text, sizeof text, "%d m", metre);
        fill(screen, 100, y, width, 1, LINES);
        font_draw(screen, 16, 90 - font_draw(NULL, 16, 0, 0, 0, text), y + 6, INK, text);
    }
    for (int i = 0; i < record_count; i++) {
        int x = 100 + i * width / SHOWN;
        int y = bottom - (int)((records[i].level - LOWEST) * (bottom - top) / (HIGHEST - LOWEST));
        int from = i && before < y ? before : y, to = i && before > y ? before : y;
        fill(screen, x, from, width / SHOWN, to - from + 4, WATER);
        before = y;
    }
}

static void draw_table(struct screen *screen, int top, int bottom)
{
    int rows = (bottom - top) / 30, first = record_count > rows ? record_count - rows : 0;

    for (int i = first; i < record_count; i++) {
        char text[64];
        snprintf(text, sizeof text, "reading %ld", records[i].number);
        font_draw(screen, 20, 100, top + 22 + (i - first) * 30, INK, text);
        snprintf(text, sizeof text, "%.2f m", records[i].level);
        font_draw(screen, 20, 300, top + 22 + (i - first) * 30, INK, text);
    }
}

static int draw(struct screen *screen, int page)
{
    char text[64] = "no reading yet";

    fill(screen, 0, 0, screen->width, screen->height, PAPER);
    fill(screen, 0, 0, screen->width, 70, WATER);
    font_draw(screen, 36, 24, 48, PAPER, "Gull Rock tide gauge");
    if (record_count)
        snprintf(text, sizeof text, "%.2f m", records[record_count - 1].level);
    font_draw(screen, 36, screen->width - 24 - font_draw(NULL, 36, 0, 0, 0, text), 48, PAPER, text);
    if (page == 0)
        draw_curve(screen, 110, screen->height - 70);
    else
        draw_table(screen, 110, screen->height - 70);
    snprintf(text, sizeof text, "page %d of %d", page + 1, PAGES);
    font_draw(screen, 20, 24, screen->height - 20, INK, text);
    return screen_show(screen);
}

/* Opens what has keys. Returns the number of files. */
static int open_keyboards(struct pollfd *files)
{
    DIR *folder = opendir("/dev/input");
    struct dirent *entry;
    int count = 0;

    while (folder && count < MOST_KEYBOARDS && (entry = readdir(folder))) {
        unsigned long kinds = 0;
        int file;
        if (strncmp(entry->d_name, "event", 5) || (file = openat(dirfd(folder), entry->d_name, O_RDONLY | O_NONBLOCK | O_CLOEXEC)) < 0)
            continue;
        if (ioctl(file, EVIOCGBIT(0, sizeof kinds), &kinds) < 0 || !(kinds >> EV_KEY & 1))
            close(file);
        else
            files[count++] = (struct pollfd){file, POLLIN, 0};
    }
    if (folder)
        closedir(folder);
    return count;
}

int main(int count, char **words)
{
    struct screen screen = {0};
    struct pollfd keyboards[MOST_KEYBOARDS];
    int keyboard_count, page = 0;
    long shown = -1;

    setvbuf(stdout, NULL, _IOLBF, 0);
    if (count != 3) {
        fprintf(stderr, "usage: tide-screen FONT LOG\n");
        return 2;
    }
    if (font_open(words[1]) || screen_open(&screen, 10))
        return 1;
    keyboard_count = open_keyboards(keyboards);
    printf("tide-screen: %d x %d, %d with keys\n", screen.width, screen.height, keyboard_count);
    for (;;) {
        long last = read_log(words[2]);
        if (last != shown && draw(&screen, page))
            return 1;
        if (last != shown)
            printf("tide-screen: page %d shows reading %ld\n", page + 1, last);
        shown = last;
        if (poll(keyboards, (nfds_t)keyboard_count, 500) < 0 && errno != EINTR)
            return 1;
        for (int i = 0; i < keyboard_count; i++) {
            struct input_event event;
            while (keyboards[i].revents & POLLIN && read(keyboards[i].fd, &event, sizeof event) == sizeof event)
                if (event.type == EV_KEY && event.value == 1) {
                    page = (page + 1) % PAGES;
                    shown = -1; /* draws anew at once */
                }
        }
    }
}

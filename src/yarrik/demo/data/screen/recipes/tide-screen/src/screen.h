#ifndef SCREEN_H
#define SCREEN_H

#include <stdint.h>

/* A screen in its best mode, and the picture that is drawn next: one word for each dot, 0xRRGGBB. */
struct screen {
    int file;
    uint32_t connector, crtc;
    int width, height;
    uint32_t stride; /* in words */
    uint32_t *dots;
    uint32_t buffers[2], handles[2];
    uint32_t *maps[2];
    int next;
    void *mode;
};

/* Opens the first screen that is connected, and waits up to SECONDS for one. 0, or -1 after saying why. */
int screen_open(struct screen *screen, int seconds);
/* Shows what was drawn; the next picture begins with other dots. */
int screen_show(struct screen *screen);

/* Fonts: a face of a file in a size. */
int font_open(const char *file);
/* Draws a line of text with its base at Y, and returns where it ends; without a screen it only measures. */
int font_draw(struct screen *screen, int size, int x, int y, uint32_t colour, const char *text);

#endif

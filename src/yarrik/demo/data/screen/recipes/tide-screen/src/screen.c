/* A screen of the kernel's (Documentation/gpu/drm-kms.rst) through libdrm, and letters through freetype. */
#include "screen.h"

#include <errno.h>
#include <fcntl.h>
#include <ft2build.h>
#include FT_FREETYPE_H
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <time.h>
#include <unistd.h>
#include <xf86drm.h>
#include <xf86drmMode.h>

static int try_card(struct screen *screen, const char *path)
{
    drmModeRes *all;
    int found = -1;

    if ((screen->file = open(path, O_RDWR | O_CLOEXEC)) < 0)
        return -1;
    all = drmModeGetResources(screen->file);
    for (int i = 0; all && i < all->count_connectors && found; i++) {
        drmModeConnector *one = drmModeGetConnector(screen->file, all->connectors[i]);
        drmModeEncoder *encoder = NULL;
        if (one && one->connection == DRM_MODE_CONNECTED && one->count_modes) {
            for (int e = 0; e < one->count_encoders && !encoder; e++)
                encoder = drmModeGetEncoder(screen->file, one->encoders[e]);
            for (int c = 0; encoder && c < all->count_crtcs && found; c++)
                if (encoder->possible_crtcs & 1u << c) {
                    screen->connector = one->connector_id;
                    screen->crtc = all->crtcs[c];
                    screen->width = one->modes[0].hdisplay; /* the preferred one comes first */
                    screen->height = one->modes[0].vdisplay;
                    if ((screen->mode = malloc(sizeof(drmModeModeInfo)))) {
                        memcpy(screen->mode, &one->modes[0], sizeof(drmModeModeInfo));
                        found = 0;
                    }
                }
        }
        drmModeFreeEncoder(encoder);
        drmModeFreeConnector(one);
    }
    drmModeFreeResources(all);
    if (found)
        close(screen->file);
    return found;
}

static int make_buffer(struct screen *screen, int which)
{
    struct drm_mode_create_dumb made = {.width = (uint32_t)screen->width, .height = (uint32_t)screen->height, .bpp = 32};
    struct drm_mode_map_dumb map = {0};
    void *at;

    if (drmIoctl(screen->file, DRM_IOCTL_MODE_CREATE_DUMB, &made)
        || drmModeAddFB(screen->file, made.width, made.height, 24, 32, made.pitch, made.handle, &screen->buffers[which]))
        return -1;
    map.handle = screen->handles[which] = made.handle;
    if (drmIoctl(screen->file, DRM_IOCTL_MODE_MAP_DUMB, &map))
        return -1;
    at = mmap(NULL, made.size, PROT_READ | PROT_WRITE, MAP_SHARED, screen->file, (off_t)map.offset);
    if (at == MAP_FAILED)
        return -1;
    screen->maps[which] = at;
    screen->stride = made.pitch / 4;
    return 0;
}

int screen_open(struct screen *screen, int seconds)
{
    static const char *cards[] = {"/dev/dri/card0", "/dev/dri/card1"};
    struct timespec tenth = {0, 100000000};

    for (int i = 0; i <= seconds * 10; i++) {
        if (!try_card(screen, cards[i % 2])) {
            if (!make_buffer(screen, 0) && !make_buffer(screen, 1)) {
                screen->dots = screen->maps[0];
                return 0;
            }
            fprintf(stderr, "tide-screen: no memory for pictures: %s\n", strerror(errno));
            return -1;
        }
        nanosleep(&tenth, NULL);
    }
    fprintf(stderr, "tide-screen: no screen is connected, or no driver was loaded for one\n");
    return -1;
}

int screen_show(struct screen *screen)
{
    int which = screen->next;

    if (drmModeSetCrtc(screen->file, screen->crtc, screen->buffers[which], 0, 0, &screen->connector, 1, screen->mode)) {
        fprintf(stderr, "tide-screen: the picture cannot be shown: %s\n", strerror(errno));
        return -1;
    }
    drmModeDirtyFB(screen->file, screen->buffers[which], NULL, 0); /* screens that have to be told; others say no */
    screen->next = !which;
    screen->dots = screen->maps[screen->next];
    return 0;
}

static FT_Face face;

int font_open(const char *file)
{
    FT_Library library;

    if (FT_Init_FreeType(&library) || FT_New_Face(library, file, 0, &face)) {
        fprintf(stderr, "tide-screen: %s is no font that can be read\n", file);
        return -1;
    }
    return 0;
}

static void blend(uint32_t *dot, uint32_t colour, unsigned cover)
{
    uint32_t made = 0;

    for (int shift = 0; shift < 24; shift += 8) {
        unsigned below = *dot >> shift & 255, above = colour >> shift & 255;
        made |= (below + (above - below) * cover / 255 & 255) << shift;
    }
    *dot = made;
}

int font_draw(struct screen *screen, int size, int x, int y, uint32_t colour, const char *text)
{
    FT_Set_Pixel_Sizes(face, 0, (FT_UInt)size);
    for (; *text; text++) {
        FT_GlyphSlot slot = face->glyph;
        if (FT_Load_Char(face, (unsigned char)*text, FT_LOAD_RENDER))
            continue;
        for (unsigned row = 0; screen && row < slot->bitmap.rows; row++)
            for (unsigned column = 0; column < slot->bitmap.width; column++) {
                int at_x = x + slot->bitmap_left + (int)column, at_y = y - slot->bitmap_top + (int)row;
                if (at_x >= 0 && at_y >= 0 && at_x < screen->width && at_y < screen->height)
                    blend(&screen->dots[(uint32_t)at_y * screen->stride + (uint32_t)at_x], colour,
                          slot->bitmap.buffer[(int)row * slot->bitmap.pitch + (int)column]);
            }
        x += (int)(slot->advance.x >> 6);
    }
    return x;
}

#ifndef ROOT_FINDER_H
#define ROOT_FINDER_H

#include <stdint.h>

#define LONGEST 256

/* A block device, with what it is called in its partition table and in its filesystem. */
struct device {
    char name[64];            /* as below /dev */
    char partition_id[40];    /* PARTUUID: "0123abcd-02", or a GUID in small letters */
    char partition_name[112]; /* PARTLABEL */
    char type[16];            /* of the filesystem, as mount(2) wants it; "" for none that is known */
    char id[40], label[40];   /* UUID and LABEL of the filesystem */
};

/* All block devices that have a size, in the order of their names. Returns their number, at most MOST. */
int find_devices(struct device *devices, int most);

/* Whether a device is what root= names: /dev/NAME, PARTUUID=, PARTLABEL=, UUID=, LABEL=. */
int is_wanted(const struct device *device, const char *wanted);

#endif

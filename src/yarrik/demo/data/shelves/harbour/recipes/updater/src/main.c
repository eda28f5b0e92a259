/* updater apply SOURCE | confirm | status | watch SECONDS COMMAND... | install SOURCE */
#include "updater.h"

static const char HELP[] =
    "updater apply FILE|http://ADDRESS[:PORT]/PATH   writes the other slot, and puts it on trial\n"
    "updater confirm                                 the system on trial works\n"
    "updater watch SECONDS COMMAND [WORD...]         confirms once the command does well, restarts when it does not in time\n"
    "updater status                                  slots, and which one runs\n"
    "updater install SOURCE                          writes a whole disk: the one beside that with the root filesystem\n"
    "                SOURCE may be partition:NAME, one of the disk that this runs from\n"
    "  --disk DEVICE     the disk, without it the one with the root filesystem\n"
    "  --slots FILE      what slots there are (/usr/lib/boot/slots.conf)\n"
    "  --keys FILE       keys that may sign updates (/etc/update-keys)\n"
    "  --board NAME      the board that an image to install has to be for\n"
    "  --screen FILE     shows all there too, where that can be opened (/dev/tty0, a display)\n"
    "  --ask yes         asks for the disk's name to be typed before it is written\n"
    "  --running SLOT    the slot that runs, without it as the kernel's command line says\n";

static int usage(void)
{
    sys_write(2, HELP, sizeof HELP - 1);
    return 2;
}

/* A system on trial is confirmed by its health check, or the board starts anew: the bootloader counts. */
static int watch(struct disk *disk, char *const words[])
{
    struct state state;
    const char *at = words[0];
    uint64_t seconds;

    if (number_in(&at, &seconds) < 0 || *at || !seconds || seconds > 86400 || !words[1])
        return usage();
    if (state_read(disk, &state) < 0)
        return 1;
    if (!same_text(state.trial, disk->running->name))
        return 0;
    if (sys_run(words + 1, (unsigned)seconds) == 0) {
        if (state_store(disk, disk->running->name, "", 0) < 0)
            return 1;
        say("the slot %s is confirmed", disk->running->name);
        return 0;
    }
    say("the health check of the slot %s does not answer: the board starts anew, %u starts are left", disk->running->name,
        (uint64_t)state.tries);
    sys_restart();
    return 1;
}

int main(int count, char **words)
{
    static struct disk disk;
    static struct keys keys;
    static struct source source;
    static char text[16384];
    const char *path = "", *slots = "/usr/lib/boot/slots.conf", *key_file = "/etc/update-keys", *running = "", *board = "", *ask = "", *shown = "/dev/tty0", *order;
    struct state state;
    int at = 1, rest;

    for (; at + 1 < count && begins(words[at], "--"); at += 2) {
        const char **to = same_text(words[at], "--disk") ? &path : same_text(words[at], "--slots") ? &slots
                          : same_text(words[at], "--keys") ? &key_file : same_text(words[at], "--running") ? &running
                          : same_text(words[at], "--board") ? &board : same_text(words[at], "--ask") ? &ask
                          : same_text(words[at], "--screen") ? &shown : NULL;

        if (!to)
            return usage();
        *to = words[at + 1];
    }
    if (at >= count)
        return usage();
    order = words[at++];
    rest = count - at;
    if (same_text(order, "apply") && rest == 1) {
        if (read_file(key_file, text, sizeof text) < 0 || !read_keys(&keys, text))
            return fail("%s has no key that may sign updates", key_file) < 0;
        if (disk_open(&disk, path, slots, running, 1) < 0 || source_open(&source, words[at]) < 0)
            return 1;
        return apply(&disk, &source, &keys) < 0;
    }
    if (same_text(order, "install") && rest == 1) {
        char target[64];
        int failed = 1;

        if (!*board || (*ask && !same_text(ask, "yes") && !same_text(ask, "no")))
            return usage();
        screen = sys_open(shown, WRITING); /* a display, where the board has one */
        if (read_file(key_file, text, sizeof text) < 0 || !read_keys(&keys, text))
            return fail("%s has no key that may sign images", key_file) < 0;
        if ((*path || target_find(target, sizeof target) == 0) && source_open(&source, words[at]) == 0)
            failed = install(*path ? path : target, board, same_text(ask, "yes"), words[at], &source, &keys) < 0;
        if (failed)
            say("it is not installed; the same again keeps what is right already");
        return failed;
    }
    if (same_text(order, "watch") && rest >= 2)
        return disk_open(&disk, path, slots, running, 1) < 0 ? 1 : watch(&disk, words + at);
    if (!(same_text(order, "confirm") || same_text(order, "status")) || rest)
        return usage();
    if (disk_open(&disk, path, slots, running, same_text(order, "confirm")) < 0 || state_read(&disk, &state) < 0)
        return 1;
    if (same_text(order, "confirm")) {
        if (!state.trial[0]) {
            say("no system is on trial");
            return 0;
        }
        if (!same_text(state.trial, disk.running->name) && !*path)
            return fail("the slot %s is on trial, and %s runs", state.trial, disk.running->name) < 0;
        if (state_store(&disk, state.trial, "", 0) < 0)
            return 1;
        say("the slot %s is confirmed", state.trial);
        return 0;
    }
    say("%s on %s, version %s runs in the slot %s", disk.product, disk.board, disk.version, disk.running->name);
    if (state.trial[0])
        say("the slot %s is on trial, %u starts are left", state.trial, (uint64_t)state.tries);
    return 0;
}

/* The first program of an initramfs: finds the root filesystem, waits for it, checks it, and starts the system that is on it.

   Words of the kernel's command line (the kernel's own are in its Documentation/admin-guide/kernel-parameters.txt):
     root=WHAT                     /dev/NAME, PARTUUID=, PARTLABEL=, UUID=, LABEL=
     rootfstype=TYPE,TYPE  rootflags=OPTIONS  ro  rw  rootdelay=SECONDS  init=PROGRAM
     root-finder.wait=SECONDS      how long to wait for it; 30 without
     root-finder.fallback=WHAT     another one, for when the first is not there or fails a check; may be repeated
     root-finder.need=PATH         what has to be there for it to count as whole, besides its init; may be repeated
     root-finder.shell             a shell (/bin/sh of the initramfs) when all fails
   Programs that it uses where the initramfs has them: /sbin/modprobe for drivers, /sbin/e2fsck before an ext filesystem is
   mounted. When nothing can be started it says why, lists the disks that it sees, and ends; the kernel's panic= says what follows. */
#define _GNU_SOURCE
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/statfs.h>
#include <sys/sysmacros.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "root-finder.h"

#define NAME "root-finder"
#define NEW_ROOT "/root-finder"
#define MOST_DEVICES 128
#define MOST_WORDS 8
#define PAUSE_MS 50
#define RAMFS_MAGIC 0x858458f6u
#define TMPFS_MAGIC 0x01021994u

/* What the bench of the build host knows this program by. */
const char forms[] = NAME " 1: /dev PARTUUID PARTLABEL UUID LABEL";

static char line[4096];
static const char *roots[1 + MOST_WORDS], *needs[MOST_WORDS], *type_words, *flags_word, *init_word;
static int root_count, need_count, read_only = 1, wants_shell;
static long wait_ms = 30000, delay_ms;
static struct device devices[MOST_DEVICES];

static void say(const char *format, ...)
{
    char text[1024];
    va_list words;
    int size = snprintf(text, sizeof text, NAME ": ");

    va_start(words, format);
    vsnprintf(text + size, sizeof text - (size_t)size - 1, format, words);
    va_end(words);
    for (char *c = text; *c; c++) /* names come from disks: no escape sequence reaches the terminal */
        if ((unsigned char)*c < ' ' || *c == 127)
            *c = '?';
    strcat(text, "\n");
    if (write(2, text, strlen(text)) < 0)
        return;
}

static long now_ms(void)
{
    struct timespec t;

    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec * 1000L + t.tv_nsec / 1000000L;
}

static void pause_ms(long ms)
{
    struct timespec t = {ms / 1000, ms % 1000 * 1000000};

    nanosleep(&t, NULL);
}

static void mount_own(const char *type, const char *where, const char *options)
{
    mkdir(where, 0755);
    if (mount(type, where, type, MS_NOSUID, options) && errno != EBUSY)
        say("%s cannot be mounted: %s", where, strerror(errno));
}

/* A kernel that carries its initramfs has no /dev/console in it, and starts its first program without one. */
static void open_console(void)
{
    int file = open("/dev/console", O_RDWR | O_NOCTTY);

    if (file < 0)
        return;
    for (int to = 0; to < 3; to++)
        if (fcntl(to, F_GETFD) < 0)
            dup2(file, to);
    if (file > 2)
        close(file);
}

static long seconds(const char *text)
{
    char *end;
    long value = strtol(text, &end, 10);

    return *end || end == text || value < 0 || value > 86400 ? -1 : value * 1000;
}

static void read_line(void)
{
    static const struct { const char *key; const char **at; } single[] = {
        {"rootfstype=", &type_words}, {"rootflags=", &flags_word}, {"init=", &init_word}, {"root=", &roots[0]}};
    int file = open("/proc/cmdline", O_RDONLY | O_CLOEXEC), quoted = 0;
    ssize_t size = file < 0 ? 0 : read(file, line, sizeof line - 1);
    const char *fallbacks[MOST_WORDS];
    int fallback_count = 0;

    if (file >= 0)
        close(file);
    line[size > 0 ? size : 0] = 0;
    for (char *word = line, *next; *word; word = next) {
        char *to = word;
        for (next = word; *next && (quoted || (*next != ' ' && *next != '\n')); next++)
            if (*next == '"')
                quoted = !quoted;
            else
                *to++ = *next;
        if (*next)
            next++;
        *to = 0;
        if (!strcmp(word, "--"))
            break; /* what follows is for init */
        for (size_t i = 0; i < sizeof single / sizeof *single; i++)
            if (!strncmp(word, single[i].key, strlen(single[i].key)))
                *single[i].at = word + strlen(single[i].key);
        if (!strcmp(word, "ro") || !strcmp(word, "rw"))
            read_only = word[1] == 'o';
        else if (!strncmp(word, "rootdelay=", 10) || !strncmp(word, NAME ".wait=", 17)) {
            const char *value = strchr(word, '=') + 1;
            long ms = seconds(value);
            if (ms < 0)
                say("%s is not a number of seconds up to 86400; it is left out", word);
            else
                *(*value && word[0] == 'r' && word[4] == 'd' ? &delay_ms : &wait_ms) = ms;
        } else if (!strncmp(word, NAME ".fallback=", 21) && fallback_count < MOST_WORDS)
            fallbacks[fallback_count++] = word + 21;
        else if (!strncmp(word, NAME ".need=", 17) && need_count < MOST_WORDS)
            needs[need_count++] = word + 17;
        else if (!strcmp(word, NAME ".shell"))
            wants_shell = 1;
        else if (!strncmp(word, NAME ".", 12))
            say("%s is no word of mine", word);
    }
    if (roots[0])
        root_count = 1;
    for (int i = 0; i < fallback_count; i++)
        roots[root_count++] = fallbacks[i];
}

/* Runs a program of the initramfs. Returns its exit state, or -1 when it was ended by a signal or could not be started. */
static int run(char *const words[])
{
    int state;
    pid_t child = fork();

    if (child == 0) {
        execv(words[0], words);
        _exit(127);
    }
    if (child < 0 || waitpid(child, &state, 0) != child)
        return -1;
    return WIFEXITED(state) ? WEXITSTATUS(state) : -1;
}

static const char *first_of(const char *a, const char *b)
{
    return !access(a, X_OK) ? a : !access(b, X_OK) ? b : NULL;
}

/* Asks for the drivers of all that the kernel has seen: each says by its `modalias` what would drive it. */
static void load_drivers(const char *program, const char *folder, int depth)
{
    char path[1024], alias[512];
    DIR *open_folder = opendir(folder);
    struct dirent *entry;

    while (open_folder && (entry = readdir(open_folder))) {
        if (entry->d_name[0] == '.' || snprintf(path, sizeof path, "%s/%s", folder, entry->d_name) >= (int)sizeof path)
            continue;
        if (entry->d_type == DT_DIR && depth < 24) {
            load_drivers(program, path, depth + 1);
        } else if (entry->d_type == DT_REG && !strcmp(entry->d_name, "modalias")) {
            FILE *file = fopen(path, "re");
            if (file && fgets(alias, sizeof alias, file)) {
                alias[strcspn(alias, "\n")] = 0;
                char *words[] = {(char *)program, "-q", "-b", "--", alias, NULL};
                if (*alias)
                    run(words);
            }
            if (file)
                fclose(file);
        }
    }
    if (open_folder)
        closedir(open_folder);
}

/* Whether the kernel knows a type of filesystem; asks for its module once. */
static int kernel_knows(const char *type)
{
    for (int again = 0; again < 2; again++) {
        char text[128];
        int known = 0;
        FILE *file = fopen("/proc/filesystems", "re");
        while (file && fgets(text, sizeof text, file)) {
            text[strcspn(text, "\n")] = 0;
            char *name = strchr(text, '\t');
            known |= name && !strcmp(name + 1, type);
        }
        if (file)
            fclose(file);
        const char *modprobe = first_of("/sbin/modprobe", "/usr/sbin/modprobe");
        if (known || !modprobe || again)
            return known;
        char alias[32];
        snprintf(alias, sizeof alias, "fs-%.24s", type);
        char *words[] = {(char *)modprobe, "-q", "-b", "--", alias, NULL};
        run(words);
    }
    return 0;
}

static int check_filesystem(const struct device *device, const char *path)
{
    const char *program = strncmp(device->type, "ext", 3) ? NULL : first_of("/sbin/e2fsck", "/usr/sbin/e2fsck");
    int state;

    if (!program)
        return 1;
    char *words[] = {(char *)program, "-p", (char *)path, NULL};
    state = run(words);
    if (state < 0 || state & ~3) { /* 1: mended, 2: mended, and a mounted one would have to be mounted anew */
        say("%s: %s ends with %d", path, program, state);
        return 0;
    }
    if (state)
        say("%s: mended by %s", path, program);
    return 1;
}

/* The words of rootflags= that are flags of mount(2), and not for the filesystem. */
static unsigned long flags_of(char *rest, size_t room)
{
    static const struct { const char *word; unsigned long flag; } known[] = {
        {"noatime", MS_NOATIME}, {"nodiratime", MS_NODIRATIME}, {"relatime", MS_RELATIME}, {"nodev", MS_NODEV},
        {"nosuid", MS_NOSUID}, {"noexec", MS_NOEXEC}, {"sync", MS_SYNCHRONOUS}, {"lazytime", MS_LAZYTIME}};
    unsigned long flags = read_only ? MS_RDONLY : 0;
    char copy[512], *save = NULL;

    *rest = 0;
    snprintf(copy, sizeof copy, "%s", flags_word ? flags_word : "");
    for (char *word = strtok_r(copy, ",", &save); word; word = strtok_r(NULL, ",", &save)) {
        size_t i = 0, n = sizeof known / sizeof *known;
        while (i < n && strcmp(word, known[i].word))
            i++;
        if (i < n)
            flags |= known[i].flag;
        else if (strlen(rest) + strlen(word) + 2 < room)
            sprintf(rest + strlen(rest), "%s%s", *rest ? "," : "", word);
    }
    return flags;
}

static int mount_device(const struct device *device, const char *path)
{
    char rest[512], types[256], *save = NULL;
    unsigned long flags = flags_of(rest, sizeof rest);

    if (!type_words && !*device->type) {
        say("%s holds no filesystem that is known here; rootfstype= would name it", path);
        return 0;
    }
    snprintf(types, sizeof types, "%s", type_words ? type_words : device->type);
    mkdir(NEW_ROOT, 0700);
    for (char *type = strtok_r(types, ",", &save); type; type = strtok_r(NULL, ",", &save)) {
        /* One driver serves all three where the older ones are left out. */
        const char *by = !kernel_knows(type) && !strncmp(type, "ext", 3) && kernel_knows("ext4") ? "ext4" : type;
        if (!kernel_knows(by)) {
            say("%s holds %s, and the kernel has no driver for it", path, type);
            continue;
        }
        if (!mount(path, NEW_ROOT, by, flags, *rest ? rest : NULL))
            return 1;
        say("%s cannot be mounted as %s: %s", path, by, strerror(errno));
    }
    return 0;
}

/* The program to start, looked up as the new system sees it, so that its links stay inside. NULL after saying why. */
static const char *find_init(const char *path)
{
    static const char *usual[] = {"/sbin/init", "/etc/init", "/bin/init", "/bin/sh"};
    int count = init_word ? 1 : 4, state = -1;
    pid_t child = fork();

    if (child == 0) {
        struct stat about;
        if (chroot(NEW_ROOT) || chdir("/"))
            _exit(255);
        for (int i = 0; i < need_count; i++)
            if (stat(needs[i], &about))
                _exit(128 + i);
        for (int i = 0; i < count; i++) {
            const char *program = init_word ? init_word : usual[i];
            if (!stat(program, &about) && S_ISREG(about.st_mode) && !access(program, X_OK))
                _exit(i);
        }
        _exit(254);
    }
    if (child > 0 && waitpid(child, &state, 0) == child && WIFEXITED(state)) {
        int told = WEXITSTATUS(state);
        if (told < count)
            return init_word ? init_word : usual[told];
        if (told >= 128 && told < 128 + need_count)
            say("%s lacks %s", path, needs[told - 128]);
        else
            say("%s has no program %s that can be started", path, init_word ? init_word : "/sbin/init");
        return NULL;
    }
    say("%s cannot be looked into", path);
    return NULL;
}

/* Mounts and checks one device. Returns the program to start from it, or NULL after saying why. */
static const char *try_device(const struct device *device)
{
    char path[80];
    const char *program;

    snprintf(path, sizeof path, "/dev/%s", device->name);
    if (!check_filesystem(device, path) || !mount_device(device, path))
        return NULL;
    program = find_init(path);
    if (!program && umount(NEW_ROOT))
        umount2(NEW_ROOT, MNT_DETACH);
    return program;
}

/* Waits for a device. The first of several that fit counts: the kernel's own order is that of their names too. */
static const struct device *wait_for(const char *wanted, long until)
{
    const char *modprobe = first_of("/sbin/modprobe", "/usr/sbin/modprobe");
    int told = 0, last = -1;

    for (;;) {
        int count = find_devices(devices, MOST_DEVICES), fit = -1, twice = -1;
        for (int i = 0; i < count; i++)
            if (is_wanted(&devices[i], wanted))
                *(fit < 0 ? &fit : &twice) = i;
        if (fit >= 0) {
            if (twice >= 0)
                say("/dev/%s and /dev/%s are both %s; the first is taken", devices[fit].name, devices[twice].name, wanted);
            return &devices[fit];
        }
        if (modprobe && count != last) { /* something new may need a driver */
            load_drivers(modprobe, "/sys/devices", 0);
            last = count;
            count = find_devices(devices, MOST_DEVICES);
            if (count != last)
                continue;
        }
        if (now_ms() >= until)
            return NULL;
        if (!told++)
            say("waits for %s", wanted);
        pause_ms(PAUSE_MS);
    }
}

/* Frees the memory that the initramfs takes. Nothing else is touched: not another filesystem, and no disk. */
static void empty_folder(int folder, dev_t device)
{
    DIR *open_folder = fdopendir(folder);
    struct dirent *entry;
    struct stat about;

    if (!open_folder) {
        close(folder);
        return;
    }
    while ((entry = readdir(open_folder))) {
        if (!strcmp(entry->d_name, ".") || !strcmp(entry->d_name, ".."))
            continue;
        if (fstatat(dirfd(open_folder), entry->d_name, &about, AT_SYMLINK_NOFOLLOW) || about.st_dev != device)
            continue;
        if (S_ISDIR(about.st_mode)) {
            int below = openat(dirfd(open_folder), entry->d_name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
            if (below >= 0)
                empty_folder(below, device);
            unlinkat(dirfd(open_folder), entry->d_name, AT_REMOVEDIR);
        } else {
            unlinkat(dirfd(open_folder), entry->d_name, 0);
        }
    }
    closedir(open_folder);
}

static void start(const char *program, char **words)
{
    static const char *kept[] = {"/dev", "/proc", "/sys"};
    struct statfs kind;
    struct stat about;
    int old = open("/", O_RDONLY | O_DIRECTORY | O_CLOEXEC);

    for (int i = 0; i < 3; i++) {
        char to[32];
        snprintf(to, sizeof to, NEW_ROOT "%s", kept[i]);
        if (mount(kept[i], to, NULL, MS_MOVE, NULL)) /* no such folder there: the system mounts it itself, or goes without */
            umount2(kept[i], MNT_DETACH);
    }
    if (chdir(NEW_ROOT))
        return;
    if (old >= 0 && !fstatfs(old, &kind) && !fstat(old, &about)
        && ((unsigned)kind.f_type == RAMFS_MAGIC || (unsigned)kind.f_type == TMPFS_MAGIC))
        empty_folder(old, about.st_dev);
    if (mount(".", "/", NULL, MS_MOVE, NULL) || chroot(".") || chdir("/")) {
        say("the root filesystem cannot be moved into its place: %s", strerror(errno));
        return;
    }
    words[0] = (char *)program;
    execv(program, words);
    say("%s cannot be started: %s", program, strerror(errno));
}

static void list_devices(void)
{
    int count = find_devices(devices, MOST_DEVICES);

    say(count ? "the disks that are seen:" : "there is no disk; is its driver in the kernel?");
    for (int i = 0; i < count; i++) {
        const struct device *one = &devices[i];
        say("  /dev/%s%s%s%s%s%s%s%s%s%s%s", one->name, *one->type ? "  " : "", one->type,
            *one->partition_id ? "  PARTUUID=" : "", one->partition_id, *one->partition_name ? "  PARTLABEL=" : "",
            one->partition_name, *one->id ? "  UUID=" : "", one->id, *one->label ? "  LABEL=" : "", one->label);
    }
}

int main(int count, char **words)
{
    long began = now_ms();

    (void)count;
    if (getpid() != 1) {
        printf("%s\nIt is the first program of an initramfs, and does nothing else.\n", forms);
        return 1;
    }
    mount_own("devtmpfs", "/dev", "mode=0755");
    open_console();
    mount_own("proc", "/proc", NULL);
    mount_own("sysfs", "/sys", NULL);
    read_line();
    if (delay_ms)
        pause_ms(delay_ms);
    if (!root_count)
        say("the command line has no root=");
    for (int i = 0; i < root_count; i++) {
        const struct device *device = wait_for(roots[i], i ? now_ms() + 1000 : began + delay_ms + wait_ms);
        const char *program = device ? try_device(device) : NULL;
        if (!device)
            say("%s did not come within %ld s", roots[i], (now_ms() - began) / 1000);
        if (program) {
            say("%s%s on /dev/%s, %s, %s; starts %s", i ? "falls back: " : "", roots[i], device->name,
                *device->type ? device->type : type_words, read_only ? "read-only" : "read-write", program);
            start(program, words);
            return 1;
        }
    }
    list_devices();
    if (wants_shell && !access("/bin/sh", X_OK)) {
        char *shell[] = {"/bin/sh", NULL};
        say("a shell; `exit` ends, and the kernel's panic= says what follows");
        execv(shell[0], shell);
    }
    say("no root filesystem can be started");
    return 1;
}

/* What a board does when it starts for the first time, each action once, and what has to follow the settings on its card.

   /etc/first-boot has lines KEY = VALUE:
     state = FOLDER                  where it remembers what is done, with a log
     card = FILE                     the settings file that a person may edit; then, for each setting:
       setting = NAME KIND           text, number, choice, switch, address; after it: usual, letters, longest, range, choice, secret
     action = KIND NAME              grow, machine-id, host-name, host-keys, run; after it:
       on = PATH (grow)              text = TEMPLATE with {serial} and {SETTING} (host-name)
       folder, type (host-keys)      program, argument, creates (host-keys, run)
   It starts at each boot. Power may be cut at any moment: an action is done again until its mark is on the disk, and files
   appear whole or not at all. `first-boot --root FOLDER` works below a folder, and tells the kernel nothing. */
#define _GNU_SOURCE
#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "first-boot.h"
#include "init.h"

#define MOST_ACTIONS 32
#define WORDS 16
#define LARGEST_LOG (256 * 1024)

struct action {
    char kind[16], name[64];
    char *on, *text, *folder, *program;
    char *words[WORDS + 2], *creates[WORDS], *types[WORDS];
    int word_count, creates_count, type_count;
};

static struct action actions[MOST_ACTIONS];
static int action_count;
static char root[256], state[256], card[256];
static int log_file = -1;
static const char *doing = "";

#define LONGEST_LINE 760

/* A line of the log: when, which action, what. */
static void make_line(char *line, const char *text)
{
    long long when = now();

    snprintf(line, LONGEST_LINE, "[%lld.%03lld] %s%s%s\n", when / 1000, when % 1000, doing, *doing ? ": " : "", text);
}

/* On the disk first, then on the console: what somebody has read is in the log. */
static void tell(const char *line)
{
    size_t size = strlen(line);

    if (log_file >= 0 && write(log_file, line, size) == (ssize_t)size)
        fsync(log_file);
    fprintf(stderr, "first-boot: %s", strchr(line, ' ') + 1);
}

void say(const char *form, ...)
{
    char text[600], line[LONGEST_LINE];
    va_list values;

    va_start(values, form);
    vsnprintf(text, sizeof text, form, values);
    va_end(values);
    for (unsigned char *c = (unsigned char *)text; *c; c++)
        if (*c < 32 || *c == 127)
            *c = '?'; /* what a file says may not steer a terminal */
    make_line(line, text);
    tell(line);
}

/* A path of the board. */
static const char *at(const char *path)
{
    static char places[4][600];
    static int next;

    next = (next + 1) % 4;
    snprintf(places[next], sizeof places[next], "%s%s", root, path);
    return places[next];
}

static const char *in_state(const char *name)
{
    char path[400];

    snprintf(path, sizeof path, "%s/%s", state, name);
    return at(path);
}

static int sync_folder_of(const char *path)
{
    char folder[600];
    int file, good;

    snprintf(folder, sizeof folder, "%s", path);
    *(strrchr(folder, '/') ? strrchr(folder, '/') + 1 : folder) = 0;
    file = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    good = file >= 0 && fsync(file) == 0;
    if (file >= 0)
        close(file);
    return good ? 0 : -1;
}

int write_safely(const char *path, const void *data, size_t size, unsigned mode)
{
    char fresh[640];
    int file, good, error;

    snprintf(fresh, sizeof fresh, "%s.new", path);
    unlink(fresh); /* of a run that was cut */
    file = open(fresh, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600);
    if (file < 0)
        return -1;
    good = write(file, data, size) == (ssize_t)size && fchmod(file, mode) == 0 && fsync(file) == 0;
    error = errno;
    close(file);
    if (good && rename(fresh, path) == 0)
        return sync_folder_of(path);
    error = good ? errno : error;
    unlink(fresh);
    errno = error;
    return -1;
}

char *read_all(const char *path, size_t most)
{
    int file = open(path, O_RDONLY | O_CLOEXEC), error;
    char *data = file >= 0 ? malloc(most + 2) : NULL;
    size_t size = 0;
    ssize_t got = -1;

    while (data && size <= most && (got = read(file, data + size, most + 1 - size)) > 0)
        size += (size_t)got;
    error = size > most ? EFBIG : errno;
    if (file >= 0)
        close(file);
    if (data && (got < 0 || size > most)) {
        free(data);
        data = NULL;
    }
    if (data)
        data[size] = 0;
    errno = error;
    return data;
}

/* Gives a file of the system its text. On a root that is read-only the text is kept with the state, and laid over the file. */
static int place_text(const char *path, const char *text, unsigned mode)
{
    char *before = read_all(at(path), 64 * 1024), kept[400];
    int same = before && strcmp(before, text) == 0;

    free(before);
    if (same)
        return 0;
    if (write_safely(at(path), text, strlen(text), mode) == 0)
        return 1;
    if (errno != EROFS)
        return -1;
    snprintf(kept, sizeof kept, "over%s", path);
    for (char *c = kept; *c; c++)
        if (*c == '/')
            *c = '-';
    before = read_all(in_state(kept), 64 * 1024);
    same = before && strcmp(before, text) == 0;
    free(before);
    if (!same && write_safely(in_state(kept), text, strlen(text), mode) != 0)
        return -1;
    if (!*root && mount(in_state(kept), path, NULL, MS_BIND, NULL) != 0)
        return -1;
    return same ? 0 : 1;
}

static int valid_id(const char *text)
{
    return text && strspn(text, "0123456789abcdef") == 32 && strcmp(text + 32, "\n") == 0;
}

/* machine-id(5) */
static int machine_id(void)
{
    char *found = read_all(at("/etc/machine-id"), 200), *kept = read_all(in_state("over-etc-machine-id"), 200), text[34];
    unsigned char bytes[16];
    int done = -1;

    if (valid_id(found))
        done = 0;
    else if (valid_id(kept))
        done = place_text("/etc/machine-id", kept, 0444);
    else if (getrandom(bytes, sizeof bytes, 0) == sizeof bytes) {
        bytes[6] = (bytes[6] & 0x0F) | 0x40; /* as a random UUID has them (RFC 9562, section 5.4) */
        bytes[8] = (bytes[8] & 0x3F) | 0x80;
        for (int i = 0; i < 16; i++)
            sprintf(text + 2 * i, "%02x", bytes[i]);
        strcpy(text + 32, "\n");
        done = place_text("/etc/machine-id", text, 0444);
    }
    free(found);
    free(kept);
    if (done > 0)
        say("written");
    if (done < 0)
        say("cannot write /etc/machine-id: %s", strerror(errno));
    return done < 0 ? -1 : 0;
}

static int first_address(const struct dirent *entry)
{
    return entry->d_name[0] != '.' && strcmp(entry->d_name, "lo") != 0;
}

/* The board's serial number: from its device tree, its firmware's tables, or else its first network address. */
static void serial_number(char *text, size_t room)
{
    static const char *const places[] = { "/proc/device-tree/serial-number", "/sys/class/dmi/id/product_serial" };
    struct dirent **found = NULL;
    int count;
    char *data = NULL;

    *text = 0;
    for (size_t i = 0; i < sizeof places / sizeof *places && !*text; i++) {
        data = read_all(at(places[i]), 200);
        snprintf(text, room, "%s", data ? data : "");
        text[strcspn(text, "\n")] = 0;
        free(data);
    }
    count = *text ? 0 : scandir(at("/sys/class/net"), &found, first_address, alphasort);
    for (int i = 0; i < count; i++) {
        char path[400];

        snprintf(path, sizeof path, "/sys/class/net/%s/address", found[i]->d_name);
        data = *text ? NULL : read_all(at(path), 200);
        for (char *c = data; c && *c && *c != '\n' && strlen(text) + 1 < room; c++)
            if (*c != ':')
                strncat(text, c, 1);
        free(data);
        free(found[i]);
    }
    free(found);
}

static void add(char *text, size_t room, const char *more, size_t size)
{
    size_t used = strlen(text);

    snprintf(text + used, room - used, "%.*s", (int)size, more);
}

/* Fills {serial} and {SETTING} in, and makes a host name of it: letters, digits and hyphens, at most 63. */
static int host_name_of(const char *form, char *name, size_t room)
{
    char serial[200];
    size_t used = 0;

    *name = 0;
    while (*form) {
        size_t size = strcspn(form, "{");

        add(name, room, form, size);
        form += size;
        if (*form != '{')
            break;
        size = strcspn(++form, "}");
        if (strncmp(form, "serial", size) == 0 && size == 6) {
            serial_number(serial, sizeof serial);
            if (!*serial)
                return -1;
            add(name, room, serial, strlen(serial));
        }
        for (int i = 0; i < setting_count; i++)
            if (strlen(settings[i].name) == size && strncmp(settings[i].name, form, size) == 0)
                add(name, room, settings[i].value, strlen(settings[i].value));
        form += size + (form[size] == '}');
    }
    for (char *c = name; *c && used < 63; c++) {
        if (isalnum((unsigned char)*c))
            name[used++] = (char)tolower((unsigned char)*c);
        else if (used && name[used - 1] != '-')
            name[used++] = '-';
    }
    while (used && name[used - 1] == '-')
        used--;
    name[used] = 0;
    return used ? 0 : -1;
}

/* The line of /etc/hosts with the board's own name. */
static int name_in_hosts(const char *name)
{
    static const char own[] = "127.0.1.1";
    char *data = read_all(at("/etc/hosts"), 64 * 1024), *text, *rest = data, *line;
    int done;

    if (!data || !(text = calloc(1, strlen(data) + strlen(name) + 64))) {
        free(data);
        return 0; /* an image without it */
    }
    while ((line = strsep(&rest, "\n"))) {
        size_t used = strlen(text);

        if (strncmp(line, own, sizeof own - 1) == 0 && isspace((unsigned char)line[sizeof own - 1]))
            sprintf(text + used, "%s %s", own, name);
        else
            strcat(text, line);
        if (rest)
            strcat(text, "\n");
    }
    done = place_text("/etc/hosts", text, 0644);
    free(text);
    free(data);
    return done;
}

static int host_name(const struct action *one)
{
    char name[1024], text[80];
    int done;

    if (host_name_of(one->text ? one->text : "", name, sizeof name) != 0) {
        say("`%s` makes no host name: a setting in it is empty, or the board has no serial number", one->text ? one->text : "");
        return -1;
    }
    snprintf(text, sizeof text, "%.63s\n", name);
    done = place_text("/etc/hostname", text, 0644);
    if (done < 0 || name_in_hosts(name) < 0) {
        say("cannot write /etc/hostname and /etc/hosts: %s", strerror(errno));
        return -1;
    }
    if (!*root && sethostname(name, strlen(name)) != 0)
        say("cannot set the host name: %s", strerror(errno));
    if (done > 0)
        say("it is %s", name);
    return 0;
}

/* Runs a program with its words on the console. Returns 0 when it ends well. */
static int run(char *const *words)
{
    pid_t pid = fork();
    int status = 0;

    if (pid == 0) {
        execv(words[0], words);
        _exit(127);
    }
    if (pid < 0 || waitpid(pid, &status, 0) != pid) {
        say("cannot start %s: %s", words[0], strerror(errno));
        return -1;
    }
    if (WIFSIGNALED(status))
        say("%s was ended by signal %d", words[0], WTERMSIG(status));
    else if (WEXITSTATUS(status))
        say(WEXITSTATUS(status) == 127 ? "cannot start %s (%d)" : "%s ended with %d", words[0], WEXITSTATUS(status));
    return status == 0 ? 0 : -1;
}

/* What a program has written is on the disk, and not empty. */
static int settled(const char *path)
{
    struct stat status;
    int file = open(path, O_RDONLY | O_CLOEXEC), good;

    good = file >= 0 && fstat(file, &status) == 0 && status.st_size > 0 && fsync(file) == 0;
    if (file >= 0)
        close(file);
    return good ? sync_folder_of(path) : -1;
}

static int is_there(const char *path)
{
    struct stat status;

    return stat(path, &status) == 0 && status.st_size > 0;
}

/* Keys come into being under another name, and get theirs when they are whole. */
static int host_keys(const struct action *one)
{
    for (int i = 0; i < one->type_count; i++) {
        char path[500], open_path[510], fresh[500], open_fresh[510];
        char *const words[] = { one->program, "-q", "-t", one->types[i], "-N", "", "-C", "", "-f", fresh, NULL };

        snprintf(path, sizeof path, "%s/ssh_host_%s_key", at(one->folder), one->types[i]);
        snprintf(open_path, sizeof open_path, "%s.pub", path);
        if (is_there(path) && is_there(open_path))
            continue;
        snprintf(fresh, sizeof fresh, "%s/.new_%s_key", at(one->folder), one->types[i]);
        snprintf(open_fresh, sizeof open_fresh, "%s.pub", fresh);
        unlink(fresh);
        unlink(open_fresh);
        if (make_path(at(one->folder), 0755) != 0 || run(words) != 0)
            return -1;
        if (chmod(fresh, 0600) != 0 || settled(fresh) != 0 || settled(open_fresh) != 0 || rename(open_fresh, open_path) != 0 ||
            rename(fresh, path) != 0 || sync_folder_of(path) != 0) {
            say("cannot keep the key %s: %s", path, strerror(errno));
            return -1;
        }
        say("made a key of type %s", one->types[i]);
    }
    return 0;
}

static int run_program(const struct action *one)
{
    if (run(one->words) != 0)
        return -1;
    for (int i = 0; i < one->creates_count; i++)
        if (settled(at(one->creates[i])) != 0) {
            say("%s did not make %s", one->words[0], one->creates[i]);
            return -1;
        }
    return 0;
}

/* A mark has its line of the log. When power was cut between the two, the log gets the line now. */
static void complete_log(const char *mark)
{
    char *line = read_all(mark, LONGEST_LINE), *lines = read_all(in_state("log"), 2 * LARGEST_LOG);

    if (log_file >= 0 && line && lines && *line == '[' && strchr(line, ' ') && !strstr(lines, line))
        tell(line);
    free(line);
    free(lines);
}

/* Returns 1 when it was done now, 0 when nothing was to do, -1 when it failed. */
static int perform(const struct action *one)
{
    char mark[200], line[LONGEST_LINE];
    int good;

    if (strcmp(one->kind, "machine-id") == 0)
        return machine_id();
    if (strcmp(one->kind, "host-name") == 0)
        return host_name(one);
    if (strcmp(one->kind, "host-keys") == 0)
        return host_keys(one);
    snprintf(mark, sizeof mark, "done/%s", one->name);
    if (access(in_state(mark), F_OK) == 0) {
        complete_log(in_state(mark));
        return 0;
    }
    good = strcmp(one->kind, "grow") == 0 ? grow(at(one->on)) : run_program(one);
    if (good != 0)
        return -1;
    make_line(line, "done");
    if (write_safely(in_state(mark), line, strlen(line), 0644) != 0) {
        say("cannot keep its mark: %s", strerror(errno));
        return -1;
    }
    tell(line);
    return 1;
}

static void read_line(char *line)
{
    struct action *last = action_count ? &actions[action_count - 1] : NULL;
    char *value;

    if (read_setting_line(line))
        return;
    if ((value = value_of(line, "state")))
        snprintf(state, sizeof state, "%s", value);
    else if ((value = value_of(line, "card")))
        snprintf(card, sizeof card, "%s", value);
    else if ((value = value_of(line, "action"))) {
        if (action_count < MOST_ACTIONS && sscanf(value, "%15s %63s", actions[action_count].kind, actions[action_count].name) == 2)
            action_count++;
    } else if (!last)
        return;
    else if ((value = value_of(line, "on")))
        last->on = strdup(value);
    else if ((value = value_of(line, "text")))
        last->text = strdup(value);
    else if ((value = value_of(line, "folder")))
        last->folder = strdup(value);
    else if ((value = value_of(line, "program")))
        last->program = last->words[0] = strdup(value);
    else if ((value = value_of(line, "argument")) && last->word_count < WORDS)
        last->words[++last->word_count] = strdup(value);
    else if ((value = value_of(line, "creates")) && last->creates_count < WORDS)
        last->creates[last->creates_count++] = strdup(value);
    else if ((value = value_of(line, "type")) && last->type_count < WORDS)
        last->types[last->type_count++] = strdup(value);
}

int main(int argc, char **arguments)
{
    char line[1200];
    FILE *file;
    int failed = 0;

    if (argc == 3 && strcmp(arguments[1], "--root") == 0)
        snprintf(root, sizeof root, "%s", arguments[2]);
    umask(022);
    file = fopen(at("/etc/first-boot"), "re");
    if (!file) {
        perror("first-boot: /etc/first-boot");
        return 2;
    }
    while (fgets(line, sizeof line, file))
        read_line(line);
    fclose(file);
    if (make_path(in_state("done"), 0755) != 0 && errno != EEXIST)
        fprintf(stderr, "first-boot: cannot make %s: %s\n", state, strerror(errno));
    log_file = open(in_state("log"), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC | O_NOFOLLOW, 0600);
    if (log_file >= 0 && lseek(log_file, 0, SEEK_END) > LARGEST_LOG && ftruncate(log_file, 0) != 0)
        perror("first-boot: log");
    if (*card) {
        doing = "settings";
        failed += take_settings(at(card), in_state("card"), in_state("settings")) != 0;
    }
    for (int i = 0; i < action_count; i++) {
        doing = actions[i].name;
        failed += perform(&actions[i]) < 0;
    }
    doing = "";
    if (failed)
        fprintf(stderr, "first-boot: %d failed, and will be tried at the next start; read %s/log\n", failed, state);
    return failed ? 1 : 0;
}

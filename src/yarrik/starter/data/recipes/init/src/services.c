/* Services: started in order, watched, started again with growing delays, stopped in the reverse order.

   A service is a file /etc/services/NAME.service with lines KEY = VALUE:
     run = PROGRAM [WORDS]     argument = WORD (one more, blanks and all)    user, group, folder, variable = NAME=TEXT
     variables = PATH (a file of lines NAME="TEXT", if it is there)
     after, needs = NAMES      once = yes             ready-file = PATH      log = ring (below /run/log)
     restart = never|on-failure|always                delay-ms, delay-most-ms, stop-ms = NUMBER
     every-ms = NUMBER (run again and again)          listen = tcp:ADDRESS:PORT|unix:PATH (run when somebody connects)
     open-files, processes, memory = NUMBER           no-new-privileges = yes
   What each of them does is in /run/services: name, state, process, how often it was started. */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <grp.h>
#include <poll.h>
#include <pwd.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <unistd.h>

#include "init.h"

#define MOST 64
#define WORDS 32
#define NAMES 16
#define VARIABLES 32
#define RING (32 * 1024)
#define STEADY 10000 /* a service that ran for so long begins with its first delay again */

enum state { WAITING, STARTING, READY, DONE, DELAYED, IDLE, STOPPED, FAILED };
static const char *const state_names[] = { "waiting", "starting", "ready", "done", "delayed", "idle", "stopped", "failed" };

struct service {
    char name[64];
    char *words[WORDS + 1];
    int word_count;
    char *after[NAMES], *needs[NAMES], *variables[VARIABLES];
    int after_count, needs_count, variable_count;
    char *user, *group, *folder, *ready_file, *listen, *variables_file;
    int restart; /* 0 never, 1 on failure, 2 always */
    int once, ring, no_new_privileges;
    long delay, delay_most, stop, every, files, processes, memory;
    /* While it runs */
    enum state state;
    pid_t pid;
    int listener, log, log_file;
    long log_size, next_delay, starts;
    long long due, started;
};

static struct service services[MOST];
static int count, said;

static void list_of(const char *text, char **names, int *number)
{
    char *copy = strdup(text), *rest = copy;

    for (char *word = strtok_r(rest, " \t", &rest); word && *number < NAMES; word = strtok_r(NULL, " \t", &rest))
        names[(*number)++] = strdup(word);
    free(copy);
}

static void read_line(struct service *one, char *line)
{
    char *value;

    if ((value = value_of(line, "run"))) {
        char *rest = strdup(value);

        for (char *word = strtok(rest, " \t"); word && one->word_count < WORDS; word = strtok(NULL, " \t"))
            one->words[one->word_count++] = word;
    } else if ((value = value_of(line, "argument")) && one->word_count < WORDS)
        one->words[one->word_count++] = strdup(value);
    else if ((value = value_of(line, "variable")) && one->variable_count < VARIABLES)
        one->variables[one->variable_count++] = strdup(value);
    else if ((value = value_of(line, "variables")))
        one->variables_file = strdup(value);
    else if ((value = value_of(line, "after")))
        list_of(value, one->after, &one->after_count);
    else if ((value = value_of(line, "needs")))
        list_of(value, one->needs, &one->needs_count);
    else if ((value = value_of(line, "user")))
        one->user = strdup(value);
    else if ((value = value_of(line, "group")))
        one->group = strdup(value);
    else if ((value = value_of(line, "folder")))
        one->folder = strdup(value);
    else if ((value = value_of(line, "ready-file")))
        one->ready_file = strdup(value);
    else if ((value = value_of(line, "listen")))
        one->listen = strdup(value);
    else if ((value = value_of(line, "restart")))
        one->restart = strcmp(value, "always") == 0 ? 2 : strcmp(value, "on-failure") == 0;
    else if ((value = value_of(line, "again"))) /* an older word for it */
        one->restart = strcmp(value, "yes") == 0 ? 2 : 0;
    else if ((value = value_of(line, "once")))
        one->once = strcmp(value, "yes") == 0;
    else if ((value = value_of(line, "no-new-privileges")))
        one->no_new_privileges = strcmp(value, "yes") == 0;
    else if ((value = value_of(line, "log")))
        one->ring = strcmp(value, "ring") == 0;
    else if ((value = value_of(line, "delay-ms")))
        one->delay = atol(value);
    else if ((value = value_of(line, "delay-most-ms")))
        one->delay_most = atol(value);
    else if ((value = value_of(line, "stop-ms")))
        one->stop = atol(value);
    else if ((value = value_of(line, "every-ms")))
        one->every = atol(value);
    else if ((value = value_of(line, "open-files")))
        one->files = atol(value);
    else if ((value = value_of(line, "processes")))
        one->processes = atol(value);
    else if ((value = value_of(line, "memory")))
        one->memory = atol(value);
}

/* A socket that waits for somebody; -1 when there can be none. */
static int open_listener(const char *what)
{
    struct sockaddr_un local = { .sun_family = AF_UNIX };
    struct sockaddr_in net = { .sin_family = AF_INET };
    char address[64];
    int port, yes = 1, one = -1;

    if (strncmp(what, "unix:", 5) == 0) {
        snprintf(local.sun_path, sizeof local.sun_path, "%s", what + 5);
        unlink(local.sun_path);
        one = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
        if (one >= 0 && bind(one, (struct sockaddr *)&local, sizeof local) == 0 && listen(one, 16) == 0)
            return one;
    } else if (sscanf(what, "tcp:%63[0-9.]:%d", address, &port) == 2 && inet_pton(AF_INET, address, &net.sin_addr) == 1) {
        net.sin_port = htons((unsigned short)port);
        one = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
        if (one >= 0 && setsockopt(one, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes) == 0 &&
            bind(one, (struct sockaddr *)&net, sizeof net) == 0 && listen(one, 16) == 0)
            return one;
    }
    fprintf(stderr, "init: cannot listen on %s: %s\n", what, strerror(errno));
    if (one >= 0)
        close(one);
    return -1;
}

static void read_service(const char *path, const char *name)
{
    struct service *one = &services[count];
    char line[1024];
    FILE *file = fopen(path, "re");

    if (!file || count == MOST) {
        fprintf(stderr, "init: cannot take the service %s\n", name);
        if (file)
            fclose(file);
        return;
    }
    memset(one, 0, sizeof *one);
    one->listener = one->log = one->log_file = -1;
    one->delay = 1000;
    one->delay_most = 60000;
    one->stop = 5000;
    snprintf(one->name, sizeof one->name, "%.*s", (int)strcspn(name, "."), name);
    while (fgets(line, sizeof line, file))
        read_line(one, line);
    fclose(file);
    if (!one->word_count) {
        fprintf(stderr, "init: %s names nothing to run\n", path);
        return;
    }
    one->next_delay = one->delay;
    if (one->every) {
        one->state = IDLE;
        one->due = now() + one->every;
    }
    if (one->listen) {
        one->listener = open_listener(one->listen);
        one->state = one->listener < 0 ? FAILED : IDLE;
    }
    count++;
}

static int is_service(const struct dirent *entry)
{
    size_t length = strlen(entry->d_name);

    return length > 8 && strcmp(entry->d_name + length - 8, ".service") == 0;
}

void read_services(void)
{
    struct dirent **found = NULL;
    int names = scandir("/etc/services", &found, is_service, alphasort);

    for (int i = 0; i < names; i++) {
        char path[512];

        snprintf(path, sizeof path, "/etc/services/%s", found[i]->d_name);
        read_service(path, found[i]->d_name);
        free(found[i]);
    }
    free(found);
    mkdir("/run/log", 0755);
}

static void tell_states(void)
{
    FILE *file = fopen("/run/services.new", "we");

    for (int i = 0; file && i < count; i++)
        fprintf(file, "%s %s %d %ld\n", services[i].name, state_names[services[i].state], (int)services[i].pid,
                services[i].starts);
    if (file && fclose(file) == 0)
        rename("/run/services.new", "/run/services");
}

static struct service *named(const char *name)
{
    for (int i = 0; i < count; i++)
        if (strcmp(services[i].name, name) == 0)
            return &services[i];
    return NULL;
}

/* The account's numbers and groups, read from the files themselves: a name service may not be there yet. */
static int become(const struct service *one)
{
    gid_t groups[64];
    size_t number = 0;
    struct passwd *entry = NULL;
    struct group *line;
    gid_t gid = 0;
    FILE *file = fopen("/etc/passwd", "re");

    while (one->user && file && (entry = fgetpwent(file)) && strcmp(entry->pw_name, one->user) != 0)
        ;
    if (one->user && !entry)
        return -1;
    gid = entry ? entry->pw_gid : 0;
    file = fopen("/etc/group", "re");
    while (file && (line = fgetgrent(file))) {
        if (one->group && strcmp(line->gr_name, one->group) == 0)
            gid = line->gr_gid;
        for (char **member = line->gr_mem; one->user && *member; member++)
            if (strcmp(*member, one->user) == 0 && number < 64)
                groups[number++] = line->gr_gid;
    }
    if (setgroups(number, groups) != 0 || setgid(gid) != 0)
        return -1;
    if (entry) {
        setenv("HOME", entry->pw_dir, 1);
        setenv("USER", entry->pw_name, 1);
        return setuid(entry->pw_uid);
    }
    return 0;
}

static void bound(int what, long most)
{
    struct rlimit limit = { (rlim_t)most, (rlim_t)most };

    if (most && setrlimit(what, &limit) != 0)
        perror("init: limit");
}

static void run(struct service *one)
{
    sigset_t none;
    int console, empty = open("/dev/null", O_RDONLY);

    sigemptyset(&none);
    sigprocmask(SIG_SETMASK, &none, NULL);
    setsid();
    console = one->log_file >= 0 ? one->log_file : 1;
    if (empty >= 0)
        dup2(empty, 0);
    if (console != 1) {
        dup2(console, 1);
        dup2(console, 2);
    }
    if (one->variables_file)
        read_variables(one->variables_file);
    for (int i = 0; i < one->variable_count; i++)
        putenv(one->variables[i]);
    if (one->listener >= 0) { /* the descriptor that the program is given, as it is usual: the third */
        char text[16];

        if (one->listener == 3)
            fcntl(3, F_SETFD, 0);
        else
            dup2(one->listener, 3);
        snprintf(text, sizeof text, "%d", (int)getpid());
        setenv("LISTEN_PID", text, 1);
        setenv("LISTEN_FDS", "1", 1);
    }
    bound(RLIMIT_NOFILE, one->files);
    bound(RLIMIT_NPROC, one->processes);
    bound(RLIMIT_AS, one->memory);
    if (become(one) != 0) {
        fprintf(stderr, "init: %s: cannot become %s\n", one->name, one->user ? one->user : "of its group");
        _exit(126);
    }
    if (chdir(one->folder ? one->folder : "/") != 0) {
        fprintf(stderr, "init: %s: cannot enter %s: %s\n", one->name, one->folder, strerror(errno));
        _exit(126);
    }
    if (one->no_new_privileges)
        prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
    execv(one->words[0], one->words);
    fprintf(stderr, "init: cannot start %s: %s\n", one->words[0], strerror(errno));
    _exit(127);
}

static void start(struct service *one)
{
    int pipes[2] = { -1, -1 };

    if (one->ring && one->log < 0 && pipe2(pipes, O_CLOEXEC) == 0) {
        one->log = pipes[0];
        one->log_file = pipes[1];
        fcntl(one->log, F_SETFL, O_NONBLOCK);
    }
    if (one->ready_file)
        unlink(one->ready_file);
    one->pid = fork();
    if (one->pid == 0)
        run(one);
    one->started = now();
    one->starts++;
    if (one->pid < 0) {
        perror("init: fork");
        one->pid = 0;
        one->state = DELAYED;
        one->due = now() + one->delay;
    } else
        one->state = one->ready_file || one->once ? STARTING : READY;
    tell_states();
}

/* Whether something that was waited for will not change any more by itself. */
static int settled(const struct service *one)
{
    return !one || one->state == READY || one->state == DONE || one->state == IDLE || one->state >= STOPPED || one->starts > 1;
}

static int usable(const struct service *one)
{
    return one && (one->state == READY || one->state == DONE || one->state == IDLE);
}

static void consider(struct service *one)
{
    for (int i = 0; i < one->needs_count; i++) {
        struct service *other = named(one->needs[i]);

        if (!other || other->state >= STOPPED) {
            fprintf(stderr, "init: %s is not started: it needs %s, which %s\n", one->name, one->needs[i],
                    other ? "has ended" : "is not there");
            one->state = FAILED;
            tell_states();
            return;
        }
        if (!usable(other))
            return;
    }
    for (int i = 0; i < one->after_count; i++)
        if (!settled(named(one->after[i])))
            return;
    start(one);
}

static long long sooner(long long one, long long other)
{
    return one < 0 || other < one ? other : one;
}

/* Starts what can be started. Returns the milliseconds until something is due, or -1. */
long long step_services(void)
{
    long long wait = -1;
    int changed, waiting = 0, running = 0;

    do {
        changed = 0;
        for (int i = 0; i < count; i++) {
            struct service *one = &services[i];
            enum state before = one->state;

            if (one->state == WAITING)
                consider(one);
            else if ((one->state == DELAYED || (one->state == IDLE && one->every)) && one->due <= now())
                start(one);
            else if (one->state == STARTING && one->ready_file && access(one->ready_file, F_OK) == 0) {
                one->state = READY;
                tell_states();
            }
            changed |= one->state != before;
        }
    } while (changed);
    for (int i = 0; i < count; i++) {
        struct service *one = &services[i];

        waiting += one->state == WAITING || (one->state == STARTING && one->starts == 1);
        running += one->starts > 0;
        if (one->state == DELAYED || (one->state == IDLE && one->every))
            wait = sooner(wait, one->due > now() ? one->due - now() : 0);
        else if (one->state == STARTING && one->ready_file)
            wait = sooner(wait, 100);
    }
    if (!waiting && !said) {
        printf("init: %d service%s started\n", running, running == 1 ? "" : "s");
        fflush(stdout);
        said = 1;
    }
    return wait;
}

/* What a service says goes into /run/log/NAME; when that is full it becomes NAME.old, and a new one begins. */
static void keep_log(struct service *one)
{
    char part[4096], path[100], old[110];
    ssize_t length = read(one->log, part, sizeof part);
    int file;

    if (length <= 0)
        return;
    snprintf(path, sizeof path, "/run/log/%s", one->name);
    if (one->log_size + length > RING) {
        snprintf(old, sizeof old, "%s.old", path);
        rename(path, old);
        one->log_size = 0;
    }
    file = open(path, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0640);
    if (file >= 0) {
        one->log_size += write(file, part, (size_t)length) > 0 ? length : 0;
        close(file);
    }
}

/* Waits until something happens: a signal, a connection, something said, or the time is over. */
int watch_services(void)
{
    struct pollfd files[2 * MOST];
    struct service *whose[2 * MOST];
    sigset_t none;
    nfds_t number = 0;
    long long wait = step_services();
    struct timespec time = { wait / 1000, wait % 1000 * 1000000 };

    for (int i = 0; i < count; i++) {
        if (services[i].log >= 0) {
            whose[number] = &services[i];
            files[number++] = (struct pollfd){ .fd = services[i].log, .events = POLLIN };
        }
        if (services[i].listener >= 0 && services[i].state == IDLE) {
            whose[number] = &services[i];
            files[number++] = (struct pollfd){ .fd = services[i].listener, .events = POLLIN };
        }
    }
    sigemptyset(&none);
    if (ppoll(files, number, wait < 0 ? NULL : &time, &none) <= 0)
        return 0;
    for (nfds_t i = 0; i < number; i++) {
        if (!(files[i].revents & POLLIN))
            continue;
        if (files[i].fd == whose[i]->log)
            keep_log(whose[i]);
        else if (whose[i]->state == IDLE)
            start(whose[i]);
    }
    return 1;
}

/* Takes note of a process that has ended. Returns whether it was a service. */
int service_ended(int pid, int status)
{
    for (int i = 0; i < count; i++) {
        struct service *one = &services[i];
        int failed = !WIFEXITED(status) || WEXITSTATUS(status) != 0;

        if (one->pid != pid)
            continue;
        one->pid = 0;
        if (one->every && !(one->listener >= 0)) {
            one->state = IDLE;
            one->due = now() + one->every;
        } else if (one->listener >= 0)
            one->state = IDLE;
        else if (one->once && !failed)
            one->state = DONE;
        else if (one->restart == 2 || (one->restart == 1 && failed)) {
            if (now() - one->started >= STEADY)
                one->next_delay = one->delay;
            one->state = DELAYED;
            one->due = now() + one->next_delay;
            printf("init: %s ended with %s %d, and is started again in %ld ms\n", one->name,
                   WIFSIGNALED(status) ? "signal" : "code", WIFSIGNALED(status) ? WTERMSIG(status) : WEXITSTATUS(status),
                   one->next_delay);
            fflush(stdout);
            one->next_delay = one->next_delay * 2 > one->delay_most ? one->delay_most : one->next_delay * 2;
        } else {
            one->state = failed ? FAILED : STOPPED;
            if (failed)
                fprintf(stderr, "init: %s failed\n", one->name);
        }
        tell_states();
        return 1;
    }
    return 0;
}

static int depends(const struct service *one, const struct service *other)
{
    for (int i = 0; i < one->needs_count; i++)
        if (strcmp(one->needs[i], other->name) == 0)
            return 1;
    for (int i = 0; i < one->after_count; i++)
        if (strcmp(one->after[i], other->name) == 0)
            return 1;
    return 0;
}

/* Ends all services, each after those that stand on it. */
void stop_services(void)
{
    for (int i = 0; i < count; i++) {
        services[i].restart = 0;
        services[i].every = 0;
        services[i].due = 0;
    }
    for (;;) {
        int running = 0, status;
        pid_t gone;

        for (int i = 0; i < count; i++) {
            struct service *one = &services[i];
            int needed = 0;

            if (!one->pid)
                continue;
            running++;
            for (int k = 0; k < count; k++)
                needed |= services[k].pid && depends(&services[k], one);
            if (needed)
                continue;
            if (!one->due) {
                printf("init: stopping %s\n", one->name);
                fflush(stdout);
                if (kill(-one->pid, SIGTERM) != 0)
                    kill(one->pid, SIGTERM); /* it has no group of its own yet */
                one->due = now() + one->stop;
            } else if (one->due <= now())
                kill(-one->pid, SIGKILL);
        }
        if (!running)
            return;
        while ((gone = waitpid(-1, &status, WNOHANG)) > 0)
            for (int i = 0; i < count; i++)
                if (services[i].pid == gone)
                    services[i].pid = 0;
        usleep(20000);
    }
}

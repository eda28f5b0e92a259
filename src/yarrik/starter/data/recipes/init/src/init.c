/* The first program: mounts what the kernel offers, sets the host name, starts the services in /etc/services, and
   keeps a shell on the console. SIGUSR1 powers the board off, SIGTERM restarts it.

   A service is a file NAME.service with lines "run = /path words…", "user = name" and "again = yes". */
#define _GNU_SOURCE
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <grp.h>
#include <pwd.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/reboot.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "modules.h"

#define MOST 32
#define WORDS 24

struct service {
    char name[64];
    char line[512];
    char *words[WORDS + 1];
    char user[32];
    int again;
    pid_t pid;
};

static struct service services[MOST];
static int count;
static volatile sig_atomic_t wanted_end;

static void on_signal(int number)
{
    wanted_end = number;
}

static void mount_one(const char *kind, const char *where, unsigned long flags, const char *options)
{
    mkdir(where, 0755);
    if (mount(kind, where, kind, flags, options) != 0 && errno != EBUSY)
        fprintf(stderr, "init: cannot mount %s: %s\n", where, strerror(errno));
}

static void set_host_name(void)
{
    char name[65] = "";
    FILE *file = fopen("/etc/hostname", "r");

    if (!file)
        return;
    if (fgets(name, sizeof name, file)) {
        name[strcspn(name, "\n")] = 0;
        if (sethostname(name, strlen(name)) != 0)
            perror("init: host name");
    }
    fclose(file);
}

static char *value_of(char *line, const char *key)
{
    size_t length = strlen(key);
    char *end;

    if (strncmp(line, key, length) != 0)
        return NULL;
    line += length;
    line += strspn(line, " \t");
    if (*line != '=')
        return NULL;
    line += 1;
    line += strspn(line, " \t");
    end = line + strcspn(line, "\n");
    while (end > line && (end[-1] == ' ' || end[-1] == '\t'))
        end--;
    *end = 0;
    return line;
}

static void read_service(const char *path, const char *name)
{
    struct service *one = &services[count];
    char line[600];
    int words = 0;
    FILE *file = fopen(path, "r");

    if (!file || count == MOST) {
        fprintf(stderr, "init: cannot take the service %s\n", name);
        if (file)
            fclose(file);
        return;
    }
    memset(one, 0, sizeof *one);
    snprintf(one->name, sizeof one->name, "%.*s", (int)strcspn(name, "."), name);
    while (fgets(line, sizeof line, file)) {
        char *value;

        if ((value = value_of(line, "run")))
            snprintf(one->line, sizeof one->line, "%s", value);
        else if ((value = value_of(line, "user")))
            snprintf(one->user, sizeof one->user, "%s", value);
        else if ((value = value_of(line, "again")))
            one->again = strcmp(value, "yes") == 0;
    }
    fclose(file);
    for (char *word = strtok(one->line, " \t"); word && words < WORDS; word = strtok(NULL, " \t"))
        one->words[words++] = word;
    if (words)
        count++;
    else
        fprintf(stderr, "init: %s names nothing to run\n", path);
}

static void become(const char *user)
{
    struct passwd *entry = NULL;
    FILE *file = fopen("/etc/passwd", "r");

    while (file && (entry = fgetpwent(file)) && strcmp(entry->pw_name, user) != 0)
        ;
    if (!entry || setgroups(0, NULL) != 0 || setgid(entry->pw_gid) != 0 || setuid(entry->pw_uid) != 0) {
        fprintf(stderr, "init: cannot become %s\n", user);
        _exit(126);
    }
}

static void unblock(void)
{
    sigset_t none;

    sigemptyset(&none);
    sigprocmask(SIG_SETMASK, &none, NULL);
    signal(SIGTERM, SIG_DFL);
    signal(SIGUSR1, SIG_DFL);
}

static void start(struct service *one)
{
    one->pid = fork();
    if (one->pid == 0) {
        unblock();
        setsid();
        if (one->user[0])
            become(one->user);
        execv(one->words[0], one->words);
        fprintf(stderr, "init: cannot start %s: %s\n", one->words[0], strerror(errno));
        _exit(127);
    }
}

static pid_t start_console(void)
{
    pid_t pid = fork();

    if (pid == 0) {
        int console;

        unblock();
        setsid();
        console = open("/dev/console", O_RDWR);
        if (console >= 0) {
            ioctl(console, TIOCSCTTY, 1);
            dup2(console, 0);
            dup2(console, 1);
            dup2(console, 2);
            if (console > 2)
                close(console);
        }
        setenv("HOME", "/root", 1);
        setenv("PATH", "/bin:/sbin:/usr/bin:/usr/sbin", 1);
        if (chdir("/root") != 0 && chdir("/") != 0)
            _exit(126);
        execl("/bin/sh", "sh", (char *)NULL);
        perror("init: /bin/sh");
        _exit(127);
    }
    return pid;
}

static int by_name(const struct dirent **a, const struct dirent **b)
{
    return strcmp((*a)->d_name, (*b)->d_name);
}

static int is_service(const struct dirent *entry)
{
    size_t length = strlen(entry->d_name);

    return length > 8 && strcmp(entry->d_name + length - 8, ".service") == 0;
}

static void end_everything(int how)
{
    printf("init: %s\n", how == RB_POWER_OFF ? "powering off" : "restarting");
    kill(-1, SIGTERM);
    for (int i = 0; i < 20; i++) {
        if (waitpid(-1, NULL, WNOHANG) < 0 && errno == ECHILD)
            break;
        usleep(50000);
    }
    kill(-1, SIGKILL);
    sync();
    if (mount(NULL, "/", NULL, MS_REMOUNT | MS_RDONLY, NULL) != 0)
        perror("init: / stays writable");
    reboot(how);
    perror("init: reboot");
    for (;;)
        pause();
}

int main(void)
{
    struct dirent **found = NULL;
    struct sigaction action = { .sa_handler = on_signal };
    pid_t console;
    int names;

    mount_one("proc", "/proc", MS_NOSUID | MS_NODEV | MS_NOEXEC, NULL);
    mount_one("sysfs", "/sys", MS_NOSUID | MS_NODEV | MS_NOEXEC, NULL);
    mount_one("devtmpfs", "/dev", MS_NOSUID, "mode=755");
    mount_one("tmpfs", "/run", MS_NOSUID | MS_NODEV, "mode=755");
    set_host_name();
    sigaction(SIGTERM, &action, NULL);
    sigaction(SIGUSR1, &action, NULL);
    reboot(RB_DISABLE_CAD);
    load_modules();

    names = scandir("/etc/services", &found, is_service, by_name);
    for (int i = 0; i < names; i++) {
        char path[512];

        snprintf(path, sizeof path, "/etc/services/%s", found[i]->d_name);
        read_service(path, found[i]->d_name);
        free(found[i]);
    }
    free(found);
    for (int i = 0; i < count; i++)
        start(&services[i]);
    printf("init: %d service%s started\n", count, count == 1 ? "" : "s");
    fflush(stdout);
    console = start_console();

    for (;;) {
        pid_t gone = waitpid(-1, NULL, 0);

        if (wanted_end)
            end_everything(wanted_end == SIGUSR1 ? RB_POWER_OFF : RB_AUTOBOOT);
        if (gone == console) {
            console = start_console();
            continue;
        }
        for (int i = 0; i < count; i++) {
            if (gone > 0 && gone == services[i].pid) {
                services[i].pid = 0;
                if (services[i].again) {
                    sleep(1);
                    start(&services[i]);
                }
            }
        }
    }
}

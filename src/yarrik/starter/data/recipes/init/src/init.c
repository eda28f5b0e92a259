/* The first program: mounts what the kernel offers and what /etc/fstab names, sets the board up, starts and watches the
   services in /etc/services, and keeps a shell on the console. SIGUSR1 powers the board off, SIGTERM restarts it.
   `init --network` only sets the network up, and ends. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
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

#include "init.h"

static volatile sig_atomic_t wanted_end;

static void on_signal(int number)
{
    if (number != SIGCHLD)
        wanted_end = number;
}

static void mount_one(const char *kind, const char *where, unsigned long flags, const char *options)
{
    mkdir(where, 0755);
    if (mount(kind, where, kind, flags, options) != 0 && errno != EBUSY)
        fprintf(stderr, "init: cannot mount %s: %s\n", where, strerror(errno));
}

static pid_t start_console(void)
{
    pid_t pid = fork();

    if (pid == 0) {
        sigset_t none;
        int console;

        sigemptyset(&none);
        sigprocmask(SIG_SETMASK, &none, NULL);
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
        if (chdir("/root") != 0 && chdir("/") != 0)
            _exit(126);
        execl("/bin/sh", "sh", (char *)NULL);
        perror("init: /bin/sh");
        _exit(127);
    }
    return pid;
}

static void end_everything(int how)
{
    stop_services();
    printf("init: %s\n", how == RB_POWER_OFF ? "powering off" : "restarting");
    fflush(stdout);
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

int main(int argc, char **arguments)
{
    struct sigaction action = { .sa_handler = on_signal };
    sigset_t ours;
    pid_t console;

    if (argc > 1 && strcmp(arguments[1], "--network") == 0) /* a service, which others may wait for */
        return set_up_network();
    sigemptyset(&ours);
    sigaddset(&ours, SIGCHLD);
    sigaddset(&ours, SIGTERM);
    sigaddset(&ours, SIGUSR1);
    sigprocmask(SIG_BLOCK, &ours, NULL); /* they come while init waits, and at no other time */
    sigaction(SIGCHLD, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
    sigaction(SIGUSR1, &action, NULL);
    reboot(RB_DISABLE_CAD);
    mount_one("proc", "/proc", MS_NOSUID | MS_NODEV | MS_NOEXEC, NULL);
    mount_one("sysfs", "/sys", MS_NOSUID | MS_NODEV | MS_NOEXEC, NULL);
    mount_one("devtmpfs", "/dev", MS_NOSUID, "mode=755");
    mount_one("tmpfs", "/run", MS_NOSUID | MS_NODEV, "mode=755");
    read_environment();
    load_modules();
    mount_all();
    apply_settings();
    read_services();
    step_services();
    console = start_console();

    for (;;) {
        pid_t gone;
        int status;

        watch_services();
        if (wanted_end)
            end_everything(wanted_end == SIGUSR1 ? RB_POWER_OFF : RB_AUTOBOOT);
        while ((gone = waitpid(-1, &status, WNOHANG)) > 0) {
            if (gone == console)
                console = start_console();
            else
                service_ended(gone, status);
        }
    }
}

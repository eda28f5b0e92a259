/* The shell's own commands. Boards this small carry no other programs for them. */
#include "shell.h"
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static int complain(const char *what, const char *about)
{
    fprintf(stderr, "%s: %s: %s\n", what, about, strerror(errno));
    return 1;
}

static int say(char **words)
{
    for (int i = 1; words[i]; i++)
        printf("%s%s", i > 1 ? " " : "", words[i]);
    putchar('\n');
    return 0;
}

static int show(char **words)
{
    static char *standard[] = { "cat", "/dev/stdin", NULL };
    int code = 0;

    if (!words[1])
        words = standard;
    for (int i = 1; words[i]; i++) {
        char part[4096];
        ssize_t length;
        int file = strcmp(words[i], "/dev/stdin") == 0 ? dup(0) : open(words[i], O_RDONLY);

        if (file < 0) {
            code = complain("cat", words[i]);
            continue;
        }
        fflush(stdout);
        while ((length = read(file, part, sizeof part)) > 0)
            if (write(1, part, length) != length)
                code = complain("cat", "standard output");
        if (length < 0)
            code = complain("cat", words[i]);
        close(file);
    }
    return code;
}

static int list(char **words)
{
    const char *place = words[1] ? words[1] : ".";
    struct dirent **found;
    int count = scandir(place, &found, NULL, alphasort);

    if (count < 0)
        return complain("ls", place);
    for (int i = 0; i < count; i++) {
        char path[4096];
        struct stat status;
        const char *name = found[i]->d_name;

        snprintf(path, sizeof path, "%s/%s", place, name);
        if (strcmp(name, ".") != 0 && strcmp(name, "..") != 0 && lstat(path, &status) == 0)
            printf("%04o %5u %5u %10lld %s%s\n", (unsigned)status.st_mode & 07777, (unsigned)status.st_uid,
                   (unsigned)status.st_gid, (long long)status.st_size, name, S_ISDIR(status.st_mode) ? "/" : "");
        free(found[i]);
    }
    free(found);
    return 0;
}

static int count_lines(char **words)
{
    FILE *file = words[1] ? fopen(words[1], "r") : stdin;
    long lines = 0;
    int c;

    if (!file)
        return complain("wc", words[1]);
    while ((c = getc(file)) != EOF)
        lines += c == '\n';
    if (file != stdin)
        fclose(file);
    printf("%ld\n", lines);
    return 0;
}

static int change_folder(char **words)
{
    const char *place = words[1] ? words[1] : getenv("HOME");

    return chdir(place ? place : "/") == 0 ? 0 : complain("cd", place ? place : "/");
}

static int where(char **words)
{
    char path[4096];

    (void)words;
    if (!getcwd(path, sizeof path))
        return complain("pwd", ".");
    puts(path);
    return 0;
}

static int make_folder(char **words)
{
    for (int i = 1; words[i]; i++)
        if (mkdir(words[i], 0777) != 0)
            return complain("mkdir", words[i]);
    return 0;
}

static int remove_files(char **words)
{
    for (int i = 1; words[i]; i++)
        if (remove(words[i]) != 0)
            return complain("rm", words[i]);
    return 0;
}

static int wait_a_while(char **words)
{
    sleep(words[1] ? (unsigned)atoi(words[1]) : 1);
    return 0;
}

static int write_out(char **words)
{
    (void)words;
    sync();
    return 0;
}

static int tell_init(int number)
{
    return kill(1, number) == 0 ? 0 : complain("init", "cannot be told");
}

static int power_off(char **words)
{
    (void)words;
    return tell_init(SIGUSR1);
}

static int restart(char **words)
{
    (void)words;
    return tell_init(SIGTERM);
}

/* The process of a service of the small init, by its name. */
static pid_t process_of(const char *service)
{
    FILE *file = fopen("/run/services", "r");
    char name[80], state[20];
    int found = 0, pid;
    long starts;

    while (file && !found && fscanf(file, "%79s %19s %d %ld", name, state, &pid, &starts) == 4)
        if (strcmp(name, service) == 0)
            found = pid;
    if (file)
        fclose(file);
    return found;
}

static int end_processes(char **words)
{
    int number = SIGTERM, code = 0;

    if (words[1] && words[1][0] == '-')
        number = atoi(*++words + 1);
    for (int i = 1; words[i]; i++) {
        char *end;
        pid_t pid = (pid_t)strtol(words[i], &end, 10);

        if (*end)
            pid = process_of(words[i]);
        if (pid < 1 || kill(pid, number) != 0)
            code = complain("kill", words[i]);
    }
    return code;
}

static int leave(char **words)
{
    exit(words[1] ? atoi(words[1]) : 0);
}

static int help(char **words);

static const struct {
    const char *name;
    int (*run)(char **);
    const char *what;
} commands[] = {
    { "cat", show, "shows files" },
    { "cd", change_folder, "changes the folder" },
    { "echo", say, "says its words" },
    { "exit", leave, "leaves the shell" },
    { "help", help, "shows this list" },
    { "kill", end_processes, "ends processes or services; -9 at once" },
    { "ls", list, "lists a folder: mode, owner, group, size, name" },
    { "mkdir", make_folder, "makes folders" },
    { "poweroff", power_off, "turns the board off" },
    { "pwd", where, "says which folder this is" },
    { "reboot", restart, "restarts the board" },
    { "rm", remove_files, "removes files and empty folders" },
    { "sleep", wait_a_while, "waits some seconds" },
    { "sync", write_out, "writes out what waits in memory" },
    { "wc", count_lines, "counts lines" },
};

static int help(char **words)
{
    (void)words;
    for (size_t i = 0; i < sizeof commands / sizeof *commands; i++)
        printf("%-9s %s\n", commands[i].name, commands[i].what);
    return 0;
}

int run_own(char **words)
{
    for (size_t i = 0; i < sizeof commands / sizeof *commands; i++) {
        if (strcmp(words[0], commands[i].name) == 0) {
            int code = commands[i].run(words);

            fflush(stdout);
            return code;
        }
    }
    return -1;
}

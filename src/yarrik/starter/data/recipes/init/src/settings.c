/* Settings that hold for the whole board: kernel parameters, folders, variables, the host name. */
#define _GNU_SOURCE
#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "init.h"

static void set_parameter(char *line)
{
    char path[300] = "/proc/sys/";
    char *value = strchr(line, '='), *end;
    FILE *file;

    if (!value || line[0] == '#' || line[0] == ';')
        return;
    *value++ = 0;
    value += strspn(value, " \t");
    value[strcspn(value, "\n")] = 0;
    for (end = line + strlen(line); end > line && isspace((unsigned char)end[-1]); end--)
        end[-1] = 0;
    snprintf(path + strlen(path), sizeof path - strlen(path), "%s", line);
    for (char *c = path + strlen("/proc/sys/"); *c; c++)
        if (*c == '.')
            *c = '/';
    file = fopen(path, "we");
    if (!file || fputs(value, file) < 0 || fclose(file) != 0)
        fprintf(stderr, "init: cannot set %s: %s\n", line, strerror(errno));
}

static void read_parameters(const char *path)
{
    char line[512];
    FILE *file = fopen(path, "re");

    while (file && fgets(line, sizeof line, file))
        set_parameter(line + strspn(line, " \t"));
    if (file)
        fclose(file);
}

/* Lines "PATH MODE UID GID" of /etc/folders: folders of places that are empty at each start. */
static void make_folders(void)
{
    char line[600], path[512];
    unsigned mode, uid, gid;
    FILE *file = fopen("/etc/folders", "re");

    while (file && fgets(line, sizeof line, file)) {
        if (sscanf(line, "%511s %o %u %u", path, &mode, &uid, &gid) != 4)
            continue;
        if (make_path(path, mode) != 0 || chown(path, uid, gid) != 0 || chmod(path, mode) != 0)
            fprintf(stderr, "init: cannot make %s: %s\n", path, strerror(errno));
    }
    if (file)
        fclose(file);
}

static void set_host_name(void)
{
    char name[65] = "";
    FILE *file = fopen("/etc/hostname", "re");

    if (!file)
        return;
    if (fgets(name, sizeof name, file)) {
        name[strcspn(name, "\n")] = 0;
        if (sethostname(name, strlen(name)) != 0)
            perror("init: host name");
    }
    fclose(file);
}

void apply_settings(void)
{
    struct dirent **found = NULL;
    int count;

    set_host_name();
    count = scandir("/etc/sysctl.d", &found, NULL, alphasort);
    for (int i = 0; i < count; i++) {
        char path[400];

        snprintf(path, sizeof path, "/etc/sysctl.d/%s", found[i]->d_name);
        if (found[i]->d_name[0] != '.')
            read_parameters(path);
        free(found[i]);
    }
    free(found);
    read_parameters("/etc/sysctl.conf");
    make_folders();
}

void read_variables(const char *path)
{
    char line[1024];
    FILE *file = fopen(path, "re");

    while (file && fgets(line, sizeof line, file)) {
        char *value = strchr(line, '='), *out;

        if (!value || line[0] == '#')
            continue;
        *value++ = 0;
        value[strcspn(value, "\n")] = 0;
        if (value[0] == '"') { /* as shells read it: a backslash takes the next character as it is */
            out = value;
            for (char *in = value + 1; *in && *in != '"'; in++)
                *out++ = *in == '\\' && in[1] ? *++in : *in;
            *out = 0;
        }
        setenv(line, value, 1);
    }
    if (file)
        fclose(file);
}

void read_environment(void)
{
    setenv("PATH", "/bin:/sbin:/usr/bin:/usr/sbin", 1);
    read_variables("/etc/environment");
}

/* Loads the kernel modules named in /etc/modules, one on a line, each with what modules.dep says that it needs. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/syscall.h>
#include <sys/utsname.h>
#include <unistd.h>

#include "init.h"

static void load(const char *folder, const char *file)
{
    char path[512];
    int handle;

    snprintf(path, sizeof path, "%s/%s", folder, file);
    handle = open(path, O_RDONLY | O_CLOEXEC);
    if (handle < 0 || (syscall(SYS_finit_module, handle, "", 0) != 0 && errno != EEXIST))
        fprintf(stderr, "init: cannot load %s: %s\n", path, strerror(errno));
    if (handle >= 0)
        close(handle);
}

/* Whether a file of modules.dep is the module of this name; dashes in file names count as underscores. */
static int is_module(const char *file, const char *name)
{
    const char *base = strrchr(file, '/') ? strrchr(file, '/') + 1 : file;
    size_t length = strlen(name);

    for (size_t i = 0; i < length; i++)
        if ((base[i] == '-' ? '_' : base[i]) != (name[i] == '-' ? '_' : name[i]))
            return 0;
    return strcmp(base + length, ".ko") == 0;
}

static void load_with_needs(const char *folder, const char *name)
{
    static char line[4096];
    char path[512];
    FILE *list;

    snprintf(path, sizeof path, "%s/modules.dep", folder);
    list = fopen(path, "re");
    while (list && fgets(line, sizeof line, list)) {
        char *needs = strchr(line, ':');
        char *last;

        if (!needs)
            continue;
        *needs++ = 0;
        needs[strcspn(needs, "\n")] = 0;
        if (!is_module(line, name))
            continue;
        while ((last = strrchr(needs, ' ')) != NULL) { /* what is needed first stands last */
            *last = 0;
            load(folder, last + 1);
        }
        load(folder, line);
        fclose(list);
        return;
    }
    if (list)
        fclose(list);
    fprintf(stderr, "init: no module is called %s\n", name);
}

void load_modules(void)
{
    struct utsname kernel;
    char folder[128], name[128];
    FILE *wanted = fopen("/etc/modules", "re");

    if (!wanted)
        return;
    uname(&kernel);
    snprintf(folder, sizeof folder, "/lib/modules/%s", kernel.release);
    while (fgets(name, sizeof name, wanted)) {
        name[strcspn(name, "\n")] = 0;
        if (name[0] && name[0] != '#')
            load_with_needs(folder, name);
    }
    fclose(wanted);
}

/* The first program of a root filesystem in a test: says where it is and what it sees, and turns the machine off. */
#include <dirent.h>
#include <stdio.h>
#include <string.h>
#include <sys/reboot.h>
#include <sys/statvfs.h>
#include <unistd.h>

int main(int count, char **words)
{
    char text[256];
    struct statvfs about;
    FILE *file = fopen("/name", "r");
    DIR *left;

    printf("STARTED %s", file && fgets(text, sizeof text, file) ? text : "without a name");
    for (int i = 0; i < count; i++)
        printf(" [%s]", words[i]);
    statvfs("/", &about);
    printf(" %s", about.f_flag & ST_RDONLY ? "read-only" : "read-write");
    if ((file = fopen("/proc/self/mounts", "r")))
        while (fgets(text, sizeof text, file))
            if (!strncmp(text, "devtmpfs", 8) || !strncmp(text, "proc", 4) || !strncmp(text, "sysfs", 5) || strstr(text, " / "))
                printf(" {%.*s}", (int)strcspn(text + strcspn(text, " ") + 1, " "), text + strcspn(text, " ") + 1);
    left = opendir("/root-finder");
    printf("%s\nEND\n", left ? " the finder is still there" : "");
    fflush(stdout);
    sync();
    reboot(RB_POWER_OFF);
    return 1;
}

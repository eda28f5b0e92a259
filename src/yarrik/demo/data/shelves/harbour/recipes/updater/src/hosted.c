/* The kernel's calls by way of a C library, for tests on the build host. */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <dirent.h>
#include <fcntl.h>
#include <stdio.h>
#include <sys/file.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/time.h>
#include <sys/wait.h>
#include <unistd.h>

#include "updater.h"

int sys_open(const char *path, int how)
{
    return open(path, (how ? O_RDWR : O_RDONLY) | (how == ALONE ? O_EXCL : 0) | O_CLOEXEC);
}

void sys_close(int file)
{
    close(file);
}

long sys_read(int file, void *data, size_t size)
{
    return read(file, data, size);
}

long sys_write(int file, const void *data, size_t size)
{
    return write(file, data, size);
}

int64_t sys_seek(int file, int64_t at)
{
    return lseek(file, at, SEEK_SET);
}

int sys_settle(int file)
{
    return fsync(file);
}

int sys_lock(int file)
{
    return flock(file, LOCK_EX | LOCK_NB);
}

void sys_forget(int file)
{
    posix_fadvise(file, 0, 0, POSIX_FADV_DONTNEED);
}

long sys_link(const char *path, char *to, size_t size)
{
    return readlink(path, to, size);
}

int sys_root_device(unsigned *first, unsigned *second)
{
    struct stat found;

    if (stat("/", &found) < 0)
        return -1;
    *first = major(found.st_dev);
    *second = minor(found.st_dev);
    return 0;
}

int sys_device(const char *path, unsigned *first, unsigned *second)
{
    struct stat found;

    if (stat(path, &found) < 0 || !S_ISBLK(found.st_mode))
        return -1;
    *first = major(found.st_rdev);
    *second = minor(found.st_rdev);
    return 0;
}

int sys_list(const char *folder, void (*name)(const char *name, void *with), void *with)
{
    DIR *open = opendir(folder);
    struct dirent *entry;

    if (!open)
        return -1;
    while ((entry = readdir(open)))
        if (entry->d_name[0] != '.')
            name(entry->d_name, with);
    closedir(open);
    return 0;
}

int sys_connect(uint32_t address, uint16_t port)
{
    struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons(port), .sin_addr.s_addr = htonl(address)};
    struct timeval patience = {.tv_sec = 30};
    int file = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);

    setsockopt(file, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
    setsockopt(file, SOL_SOCKET, SO_SNDTIMEO, &patience, sizeof patience);
    if (file >= 0 && connect(file, (struct sockaddr *)&to, sizeof to) < 0) {
        close(file);
        return -1;
    }
    return file;
}

void sys_sleep(unsigned seconds)
{
    usleep(seconds * 1000); /* tests need not wait */
}

int sys_run(char *const words[], unsigned seconds)
{
    (void)words, (void)seconds;
    return -1;
}

void sys_restart(void)
{
}

int sys_processors(void)
{
    return 2;
}

int sys_pipe(int ends[2])
{
    return pipe2(ends, O_CLOEXEC);
}

long sys_fork(void)
{
    return fork();
}

int sys_wait(long child)
{
    int status = -1;

    return waitpid((pid_t)child, &status, 0) == child ? status : -1;
}

void sys_end(int code)
{
    _exit(code);
}

/* The kernel's calls without a C library, for the architectures that boards have. */
#include <asm/unistd.h>

#include "updater.h"

enum { AT_HERE = -100, READ_ONLY = 0, READ_WRITE = 2, CLOSE_ON_EXEC = 02000000, EXCLUSIVE = 0200, FLUSH_BUFFERS = 0x1261, CHILD_SIGNAL = 17, KILL = 9,
       NOT_WAITING = 1, RESTART = 0x01234567 };

#if defined(__aarch64__)
#define START "mov x0, sp\n mov x29, #0\n b begin"
static long call(long number, long a, long b, long c, long d, long e)
{
    register long x8 __asm__("x8") = number;
    register long x0 __asm__("x0") = a;
    register long x1 __asm__("x1") = b;
    register long x2 __asm__("x2") = c;
    register long x3 __asm__("x3") = d;
    register long x4 __asm__("x4") = e;

    __asm__ volatile("svc #0" : "+r"(x0) : "r"(x8), "r"(x1), "r"(x2), "r"(x3), "r"(x4) : "memory", "cc");
    return x0;
}
#elif defined(__arm__)
#define START "mov r0, sp\n b begin"
static long call(long number, long a, long b, long c, long d, long e)
{
    register long r0 __asm__("r0") = a;
    register long r1 __asm__("r1") = b;
    register long r2 __asm__("r2") = c;
    register long r3 __asm__("r3") = d;
    register long r4 __asm__("r4") = e;

    /* r7 may be the frame's, so it is set and put back by hand. */
    __asm__ volatile("push {r7}\n mov r7, %1\n svc #0\n pop {r7}"
                     : "+r"(r0) : "r"(number), "r"(r1), "r"(r2), "r"(r3), "r"(r4) : "memory", "cc");
    return r0;
}
#elif defined(__riscv)
#define START "mv a0, sp\n tail begin"
static long call(long number, long a, long b, long c, long d, long e)
{
    register long a7 __asm__("a7") = number;
    register long a0 __asm__("a0") = a;
    register long a1 __asm__("a1") = b;
    register long a2 __asm__("a2") = c;
    register long a3 __asm__("a3") = d;
    register long a4 __asm__("a4") = e;

    __asm__ volatile("ecall" : "+r"(a0) : "r"(a7), "r"(a1), "r"(a2), "r"(a3), "r"(a4) : "memory");
    return a0;
}
#elif defined(__x86_64__)
#define START "mov %rsp, %rdi\n xor %ebp, %ebp\n and $-16, %rsp\n call begin"
static long call(long number, long a, long b, long c, long d, long e)
{
    register long r10 __asm__("r10") = d;
    register long r8 __asm__("r8") = e;
    long result;

    __asm__ volatile("syscall" : "=a"(result) : "a"(number), "D"(a), "S"(b), "d"(c), "r"(r10), "r"(r8) : "rcx", "r11", "memory");
    return result;
}
#else
#error "add the calls of this architecture"
#endif

__asm__(".globl _start\n_start:\n " START "\n");

int main(int count, char **words);
static char **environment;

__attribute__((noreturn, used)) void begin(long *stack)
{
    int count = (int)stack[0];

    environment = (char **)(stack + count + 2);
    for (int code = main(count, (char **)(stack + 1));;)
        call(__NR_exit_group, code, 0, 0, 0, 0);
}

#ifdef __arm__
/* What the compiler's division by a 64-bit number calls for a divisor of zero. */
int raise(int signal)
{
    for (;;)
        call(__NR_exit_group, 128 + signal, 0, 0, 0, 0);
}
#endif

/* The compiler writes calls of these into any program. */
void *memcpy(void *restrict to, const void *restrict from, size_t size)
{
    copy_bytes(to, from, size);
    return to;
}

void *memset(void *to, int value, size_t size)
{
    for (unsigned char *at = to; size--; at++) {
        *at = (unsigned char)value;
        __asm__ volatile("" : : : "memory"); /* or this becomes a call of itself */
    }
    return to;
}

int sys_open(const char *path, int how)
{
    return (int)call(__NR_openat, AT_HERE, (long)path, (how ? READ_WRITE : READ_ONLY) | (how == ALONE ? EXCLUSIVE : 0) | CLOSE_ON_EXEC,
                     0, 0);
}

void sys_close(int file)
{
    call(__NR_close, file, 0, 0, 0, 0);
}

long sys_read(int file, void *data, size_t size)
{
    return call(__NR_read, file, (long)data, (long)size, 0, 0);
}

long sys_write(int file, const void *data, size_t size)
{
    return call(__NR_write, file, (long)data, (long)size, 0, 0);
}

int64_t sys_seek(int file, int64_t at)
{
#ifdef __NR__llseek
    int64_t result;

    return call(__NR__llseek, file, (long)(at >> 32), (long)at, (long)&result, 0) < 0 ? -1 : result;
#else
    return call(__NR_lseek, file, at, 0, 0, 0);
#endif
}

int sys_settle(int file)
{
    return (int)call(__NR_fsync, file, 0, 0, 0, 0);
}

/* 0 when nobody else has it locked. */
int sys_lock(int file)
{
    return (int)call(__NR_flock, file, 2 | 4, 0, 0, 0); /* LOCK_EX | LOCK_NB */
}

/* What is read next comes from the disk, and not from memory. */
void sys_forget(int file)
{
    call(__NR_ioctl, file, FLUSH_BUFFERS, 0, 0, 0);
}

long sys_link(const char *path, char *to, size_t size)
{
    return call(__NR_readlinkat, AT_HERE, (long)path, (long)to, (long)size, 0);
}

int sys_root_device(unsigned *major, unsigned *minor)
{
    static uint8_t found[256]; /* struct statx (statx(2)): the device of the file is at 136 and 140 */

    if (call(__NR_statx, AT_HERE, (long)"/", 0, 0, (long)found) < 0)
        return -1;
    *major = (unsigned)little(found + 136, 4);
    *minor = (unsigned)little(found + 140, 4);
    return 0;
}

int sys_device(const char *path, unsigned *major, unsigned *minor)
{
    static uint8_t found[256]; /* the device that a node stands for is at 128 and 132; the mode at 28 */

    if (call(__NR_statx, AT_HERE, (long)path, 0, 0, (long)found) < 0 || (little(found + 28, 2) & 0170000) != 0060000)
        return -1;
    *major = (unsigned)little(found + 128, 4);
    *minor = (unsigned)little(found + 132, 4);
    return 0;
}

int sys_list(const char *folder, void (*name)(const char *name, void *with), void *with)
{
    static uint8_t entries[4096]; /* struct linux_dirent64: the length at 16, the name at 19 */
    int file = (int)call(__NR_openat, AT_HERE, (long)folder, READ_ONLY | CLOSE_ON_EXEC, 0, 0);
    long got;

    if (file < 0)
        return -1;
    while ((got = call(__NR_getdents64, file, (long)entries, sizeof entries, 0, 0)) > 0)
        for (long at = 0; at < got; at += (long)little(entries + at + 16, 2))
            if (entries[at + 19] != '.')
                name((const char *)entries + at + 19, with);
    sys_close(file);
    return 0;
}

int sys_connect(uint32_t address, uint16_t port)
{
    uint8_t to[16] = {0}; /* struct sockaddr_in */
    long patience[2] = {30, 0};
    int file = (int)call(__NR_socket, 2, 1 | CLOSE_ON_EXEC, 0, 0, 0);

    to[0] = 2;
    to[2] = (uint8_t)(port >> 8);
    to[3] = (uint8_t)port;
    for (int i = 0; i < 4; i++)
        to[4 + i] = (uint8_t)(address >> (24 - 8 * i));
    for (int option = 20; file >= 0 && option <= 21; option++) /* SO_RCVTIMEO and SO_SNDTIMEO */
        call(__NR_setsockopt, file, 1, option, (long)patience, sizeof patience);
    if (file >= 0 && call(__NR_connect, file, (long)to, sizeof to, 0, 0) < 0) {
        sys_close(file);
        return -1;
    }
    return file;
}

static void pause_for(long seconds, long nanoseconds)
{
#ifdef __NR_nanosleep
    long time[2] = {seconds, nanoseconds};

    call(__NR_nanosleep, (long)time, 0, 0, 0, 0);
#else
    int64_t time[2] = {seconds, nanoseconds};

    call(__NR_clock_nanosleep_time64, 1, 0, (long)time, 0, 0);
#endif
}

void sys_sleep(unsigned seconds)
{
    pause_for((long)seconds, 0);
}

/* Runs a program, each second anew, until it ends well; 0 when it does so within the time. */
int sys_run(char *const words[], unsigned seconds)
{
    unsigned tenths = 0;
    int status = -1;

    while (tenths < 10 * seconds) {
        long child = call(__NR_clone, CHILD_SIGNAL, 0, 0, 0, 0);

        if (child == 0) {
            call(__NR_execve, (long)words[0], (long)words, (long)environment, 0, 0);
            call(__NR_exit_group, 127, 0, 0, 0, 0);
        }
        if (child < 0)
            return -1;
        for (; call(__NR_wait4, child, (long)&status, NOT_WAITING, 0, 0) != child; tenths++) {
            if (tenths >= 10 * seconds) {
                call(__NR_kill, child, KILL, 0, 0, 0);
                call(__NR_wait4, child, (long)&status, 0, 0, 0);
                return -1;
            }
            pause_for(0, 100000000);
        }
        if (status == 0)
            return 0;
        sys_sleep(1);
        tenths += 10;
    }
    return -1;
}

/* How many processors this may run on. */
int sys_processors(void)
{
    uint8_t mask[128];
    long size = call(__NR_sched_getaffinity, 0, sizeof mask, (long)mask, 0, 0);
    int count = 0;

    for (long i = 0; i < size; i++)
        for (int bit = 0; bit < 8; bit++)
            count += mask[i] >> bit & 1;
    return count;
}

int sys_pipe(int ends[2])
{
    return (int)call(__NR_pipe2, (long)ends, CLOSE_ON_EXEC, 0, 0, 0);
}

long sys_fork(void)
{
    return call(__NR_clone, CHILD_SIGNAL, 0, 0, 0, 0);
}

int sys_wait(long child)
{
    int status = -1;

    return call(__NR_wait4, child, (long)&status, 0, 0, 0) == child ? status : -1;
}

void sys_end(int code)
{
    for (;;)
        call(__NR_exit_group, code, 0, 0, 0, 0);
}

void sys_restart(void)
{
    call(__NR_sync, 0, 0, 0, 0, 0);
    call(__NR_reboot, 0xfee1dead, 672274793, RESTART, 0, 0);
}

/* The only program of a test machine: mounts what /plan asks for, prints what the kernel sees of every file, fills
   and grows where asked, and switches the machine off. Lines of /plan: DEVICE TYPE ACTION [BLOCKS], of ACTION read, fill,
   grow (to a number of blocks, then fill) or swap; a DEVICE `-` is the root that the kernel unpacked. */

#define _GNU_SOURCE
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/reboot.h>
#include <sys/stat.h>
#include <sys/swap.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

/* SHA-256, FIPS 180-4 */

struct sha { uint32_t state[8]; uint64_t length; unsigned char block[64]; };

static const uint32_t K[64] = {
	0x428a2f98, 0x71374491, 0xb5c0fbcf, 0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5, 0xd807aa98, 0x12835b01,
	0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7, 0xc19bf174, 0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc,
	0x2de92c6f, 0x4a7484aa, 0x5cb0a9dc, 0x76f988da, 0x983e5152, 0xa831c66d, 0xb00327c8, 0xbf597fc7, 0xc6e00bf3, 0xd5a79147,
	0x06ca6351, 0x14292967, 0x27b70a85, 0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e, 0x92722c85,
	0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819, 0xd6990624, 0xf40e3585, 0x106aa070, 0x19a4c116, 0x1e376c08,
	0x2748774c, 0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3, 0x748f82ee, 0x78a5636f, 0x84c87814, 0x8cc70208,
	0x90befffa, 0xa4506ceb, 0xbef9a3f7, 0xc67178f2,
};

static uint32_t turn(uint32_t x, int n) { return x >> n | x << (32 - n); }

static void sha_block(struct sha *s, const unsigned char *p)
{
	uint32_t w[64], v[8];
	for (int i = 0; i < 16; i++)
		w[i] = (uint32_t)p[4 * i] << 24 | p[4 * i + 1] << 16 | p[4 * i + 2] << 8 | p[4 * i + 3];
	for (int i = 16; i < 64; i++) {
		uint32_t a = turn(w[i - 15], 7) ^ turn(w[i - 15], 18) ^ w[i - 15] >> 3;
		uint32_t b = turn(w[i - 2], 17) ^ turn(w[i - 2], 19) ^ w[i - 2] >> 10;
		w[i] = w[i - 16] + a + w[i - 7] + b;
	}
	memcpy(v, s->state, sizeof v);
	for (int i = 0; i < 64; i++) {
		uint32_t one = v[7] + (turn(v[4], 6) ^ turn(v[4], 11) ^ turn(v[4], 25)) + ((v[4] & v[5]) ^ (~v[4] & v[6])) + K[i] + w[i];
		uint32_t two = (turn(v[0], 2) ^ turn(v[0], 13) ^ turn(v[0], 22)) + ((v[0] & v[1]) ^ (v[0] & v[2]) ^ (v[1] & v[2]));
		memmove(v + 1, v, 7 * sizeof *v);
		v[4] += one;
		v[0] = one + two;
	}
	for (int i = 0; i < 8; i++)
		s->state[i] += v[i];
}

static void sha_start(struct sha *s)
{
	static const uint32_t first[8] = { 0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a,
					   0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19 };
	memcpy(s->state, first, sizeof first);
	s->length = 0;
}

static void sha_add(struct sha *s, const void *data, size_t count)
{
	const unsigned char *p = data;
	while (count) {
		size_t place = s->length % 64, part = 64 - place < count ? 64 - place : count;
		memcpy(s->block + place, p, part);
		s->length += part, p += part, count -= part;
		if (s->length % 64 == 0)
			sha_block(s, s->block);
	}
}

static void sha_print(struct sha *s)
{
	uint64_t bits = s->length * 8;
	unsigned char tail[8], one = 0x80, zero = 0;
	for (int i = 0; i < 8; i++)
		tail[i] = bits >> (56 - 8 * i);
	sha_add(s, &one, 1);
	while (s->length % 64 != 56)
		sha_add(s, &zero, 1);
	sha_add(s, tail, 8);
	for (int i = 0; i < 8; i++)
		printf("%08x", s->state[i]);
}

static char buffer[1 << 16];

static int by_name(const void *a, const void *b) { return strcmp(*(char *const *)a, *(char *const *)b); }

/* A digest of all extended attributes: each name, a zero, the value, in the order of the names. */
static void print_attributes(const char *path)
{
	static char list[1 << 16];
	char *names[64];
	int found = 0;
	struct sha s;
	ssize_t size = llistxattr(path, list, sizeof list);
	for (ssize_t at = 0; at < size && found < 64; at += strlen(list + at) + 1)
		names[found++] = list + at;
	if (!found) {
		printf("-");
		return;
	}
	qsort(names, found, sizeof *names, by_name);
	sha_start(&s);
	for (int i = 0; i < found; i++) {
		ssize_t length = lgetxattr(path, names[i], buffer, sizeof buffer);
		sha_add(&s, names[i], strlen(names[i]) + 1);
		sha_add(&s, buffer, length > 0 ? length : 0);
	}
	sha_print(&s);
}

static void tell(const char *device, const char *path, size_t skip)
{
	struct stat st;
	struct sha s;
	if (lstat(path, &st)) {
		printf("BAD %s %s: %s\n", device, path, strerror(errno));
		return;
	}
	printf("PATH %s ", device);
	for (const unsigned char *p = (const unsigned char *)path + skip; *p; p++)
		printf("%02x", *p);
	printf(" %o %u %u %llu %lld %u:%u ", st.st_mode, st.st_uid, st.st_gid, (unsigned long long)(S_ISREG(st.st_mode) ? st.st_size : 0),
	       (long long)st.st_mtime, major(st.st_rdev), minor(st.st_rdev));
	sha_start(&s);
	if (S_ISREG(st.st_mode)) {
		int file = open(path, O_RDONLY);
		ssize_t got = -1;
		while (file >= 0 && (got = read(file, buffer, sizeof buffer)) > 0)
			sha_add(&s, buffer, got);
		if (got < 0)
			printf("unreadable:%d", errno);
		else
			sha_print(&s);
		close(file);
	} else if (S_ISLNK(st.st_mode)) {
		ssize_t got = readlink(path, buffer, sizeof buffer);
		sha_add(&s, buffer, got > 0 ? got : 0);
		sha_print(&s);
	} else {
		printf("-");
	}
	printf(" ");
	print_attributes(path);
	printf("\n");
}

static void walk(const char *device, const char *path, size_t skip)
{
	DIR *folder = opendir(path);
	struct dirent *entry;
	if (!folder) {
		printf("BAD %s %s: %s\n", device, path, strerror(errno));
		return;
	}
	while ((entry = readdir(folder))) {
		char *inner;
		struct stat st;
		if (!strcmp(entry->d_name, ".") || !strcmp(entry->d_name, ".."))
			continue;
		if (asprintf(&inner, "%s/%s", strcmp(path, "/") ? path : "", entry->d_name) < 0)
			continue;
		tell(device, inner, skip);
		if (!lstat(inner, &st) && S_ISDIR(st.st_mode) && strcmp(inner, "/proc") && strcmp(inner, "/mnt") && strcmp(inner, "/lost+found"))
			walk(device, inner, skip);
		free(inner);
	}
	closedir(folder);
}

/* Writes until there is no room, takes every other file away, and writes again. */
static void fill(const char *device)
{
	char name[64];
	long written = 0;
	int reason = 0;
	mkdir("/mnt/filled", 0755);
	for (int turn = 0; turn < 2; turn++) {
		for (int number = 0; number < 100000; number++) {
			snprintf(name, sizeof name, "/mnt/filled/%d-%d", turn, number);
			int file = open(name, O_WRONLY | O_CREAT | O_TRUNC, 0644);
			if (file < 0) {
				reason = errno;
				break;
			}
			memset(buffer, number, sizeof buffer);
			ssize_t got = 0;
			for (int part = 0; part < 16 && (got = write(file, buffer, sizeof buffer)) > 0; part++)
				written += got;
			int full = got < 0 || fsync(file);
			reason = full ? errno : 0;
			close(file);
			if (full)
				break;
		}
		for (int number = 0; !turn && number < 100000; number += 2) {
			snprintf(name, sizeof name, "/mnt/filled/%d-%d", turn, number);
			if (unlink(name))
				break;
		}
	}
	printf("FILLED %s %ld %s\n", device, written, reason == ENOSPC ? "full" : strerror(reason));
}

int main(void)
{
	char line[256], device[64], path[80], type[32], action[32];
	mount("none", "/dev", "devtmpfs", 0, NULL);
	mount("none", "/proc", "proc", 0, NULL);
	FILE *plan = fopen("/plan", "r");
	while (plan && fgets(line, sizeof line, plan)) {
		unsigned long long blocks = 0;
		if (sscanf(line, "%63s %31s %31s %llu", device, type, action, &blocks) < 3)
			continue;
		snprintf(path, sizeof path, "/dev/%s", device);
		if (!strcmp(device, "-")) {
			walk(device, "/tree", 5);
			continue;
		}
		if (!strcmp(action, "swap")) {
			printf("SWAP %s %s\n", device, swapon(path, 0) ? strerror(errno) : "on");
			continue;
		}
		int reads = !strcmp(action, "read");
		if (mount(path, "/mnt", type, reads ? MS_RDONLY : 0, NULL)) {
			printf("BAD %s cannot be mounted: %s\n", device, strerror(errno));
			continue;
		}
		walk(device, "/mnt", 4);
		if (!strcmp(action, "grow")) {
			int top = open("/mnt", O_RDONLY);
			uint64_t count = blocks;
			printf("GROWN %s %s\n", device, ioctl(top, _IOW('f', 16, uint64_t), &count) ? strerror(errno) : "yes");
			close(top);
		}
		if (!reads)
			fill(device);
		printf("UNMOUNTED %s %s\n", device, umount("/mnt") ? strerror(errno) : "yes");
	}
	printf("ALL DONE\n");
	fflush(stdout);
	sync();
	reboot(RB_POWER_OFF);
	return 0;
}

/* Lets one call to the device fail, or all from one on: for a process that is started with this loaded before anything else.
 *
 * FIRE_FAIL_AT   the number of the call that fails, from 1; 0 for none
 * FIRE_ERROR     the error that it fails with
 * FIRE_FOREVER   set: all that follow fail too
 * FIRE_COUNT     a file that is told how many calls there were, once the process ends
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <unistd.h>

static atomic_long calls;
static long fail_at, error_number;
static int forever;
static char count_file[4096];

__attribute__((constructor)) static void begin(void) {
    const char *at = getenv("FIRE_FAIL_AT"), *error = getenv("FIRE_ERROR"), *count = getenv("FIRE_COUNT");
    fail_at = at ? atol(at) : 0;
    error_number = error ? atol(error) : EIO;
    forever = getenv("FIRE_FOREVER") != NULL;
    if (count) strncpy(count_file, count, sizeof count_file - 1);
}

__attribute__((destructor)) static void end(void) {
    if (!count_file[0]) return;
    FILE *out = fopen(count_file, "w");
    if (!out) return;
    fprintf(out, "%ld\n", atomic_load(&calls));
    fclose(out);
}

static int fails(void) {
    long number = atomic_fetch_add(&calls, 1) + 1;
    if (fail_at > 0 && (forever ? number >= fail_at : number == fail_at)) {
        errno = (int)error_number;
        return 1;
    }
    return 0;
}

/* Only files are tried: what the process says goes through a pipe. */
static int is_file(int fd) {
    struct stat found;
    return fd > 2 && fstat(fd, &found) == 0 && S_ISREG(found.st_mode);
}

#define REAL(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))

ssize_t write(int fd, const void *bytes, size_t count) {
    if (is_file(fd) && fails()) return -1;
    return REAL(write)(fd, bytes, count);
}
ssize_t pwrite(int fd, const void *bytes, size_t count, off_t at) {
    if (is_file(fd) && fails()) return -1;
    return REAL(pwrite)(fd, bytes, count, at);
}
ssize_t pwrite64(int fd, const void *bytes, size_t count, off64_t at) {
    if (is_file(fd) && fails()) return -1;
    return REAL(pwrite64)(fd, bytes, count, at);
}
ssize_t copy_file_range(int from, off64_t *at, int to, off64_t *at_to, size_t count, unsigned flags) {
    if (is_file(to) && fails()) return -1;
    return REAL(copy_file_range)(from, at, to, at_to, count, flags);
}
int fsync(int fd) {
    if (fd > 2 && fails()) return -1;
    return REAL(fsync)(fd);
}
int fdatasync(int fd) {
    if (fd > 2 && fails()) return -1;
    return REAL(fdatasync)(fd);
}
int ftruncate(int fd, off_t length) {
    if (is_file(fd) && fails()) return -1;
    return REAL(ftruncate)(fd, length);
}
int ftruncate64(int fd, off64_t length) {
    if (is_file(fd) && fails()) return -1;
    return REAL(ftruncate64)(fd, length);
}
int rename(const char *from, const char *to) {
    if (fails()) return -1;
    return REAL(rename)(from, to);
}
int unlink(const char *path) {
    if (fails()) return -1;
    return REAL(unlink)(path);
}
int link(const char *from, const char *to) {
    if (fails()) return -1;
    return REAL(link)(from, to);
}
int linkat(int from_at, const char *from, int to_at, const char *to, int flags) {
    if (fails()) return -1;
    return REAL(linkat)(from_at, from, to_at, to, flags);
}

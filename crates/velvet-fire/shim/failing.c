/* Lets one call to the device fail, or all from one on: for a process that is started with this loaded before anything else.
 *
 * FIRE_FAIL_AT   the number of the call that fails, from 1; 0 for none
 * FIRE_ERROR     the error that it fails with
 * FIRE_FOREVER   set: all that follow fail too
 * FIRE_COUNT     a file that gets the number of calls, once the process ends
 * FIRE_AHEAD     by how many seconds the clock is ahead
 * FIRE_RECORD    a file that gets each call, in order: a letter, the file's name, a place, and the bytes; “a” is what the process said
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <time.h>
#include <unistd.h>

static atomic_long calls;
static long fail_at, error_number, ahead;
static int forever;
static char count_file[4096];
static int record = -1;
static pthread_mutex_t recording = PTHREAD_MUTEX_INITIALIZER;

__attribute__((constructor)) static void begin(void) {
    const char *at = getenv("FIRE_FAIL_AT"), *error = getenv("FIRE_ERROR"), *count = getenv("FIRE_COUNT");
    fail_at = at ? atol(at) : 0;
    error_number = error ? atol(error) : EIO;
    const char *seconds = getenv("FIRE_AHEAD");
    ahead = seconds ? atol(seconds) : 0;
    forever = getenv("FIRE_FOREVER") != NULL;
    if (count) strncpy(count_file, count, sizeof count_file - 1);
    const char *to = getenv("FIRE_RECORD");
    if (to) record = open(to, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
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
    return fd > 2 && fd != record && fstat(fd, &found) == 0 && S_ISREG(found.st_mode);
}

#define REAL(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))

int clock_gettime(clockid_t clock, struct timespec *now) {
    int result = REAL(clock_gettime)(clock, now);
    if (result == 0 && clock == CLOCK_REALTIME) now->tv_sec += ahead;
    return result;
}

/* Held from before a call until it is recorded, so that the order is the one in which the device saw them. */
static void begin_call(void) {
    if (record >= 0) pthread_mutex_lock(&recording);
}

static void end_call(char kind, const char *path, long at, const void *bytes, size_t count) {
    if (record < 0) return;
    const char *slash = strrchr(path, '/'), *name = slash ? slash + 1 : path;
    unsigned int head[4] = {(unsigned char)kind, strlen(name), (unsigned int)at, count};
    int error = errno;
    REAL(write)(record, head, sizeof head);
    REAL(write)(record, name, head[1]);
    if (bytes) REAL(write)(record, bytes, count);
    errno = error;
    pthread_mutex_unlock(&recording);
}

static const char *path_of(int fd, char *path) {
    char link[64];
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t length = readlink(link, path, 4095);
    path[length > 0 ? length : 0] = 0;
    return path;
}

static ssize_t written(int fd, const void *bytes, off64_t at, ssize_t done) {
    char path[4096];
    end_call('w', path_of(fd, path), at, bytes, done > 0 ? done : 0);
    return done;
}

static int done_to(char kind, int fd, long at, int result) {
    char path[4096];
    end_call(kind, path_of(fd, path), at, NULL, 0);
    return result;
}

ssize_t write(int fd, const void *bytes, size_t count) {
    if (fd == 1 && record >= 0) {
        begin_call();
        end_call('a', "", 0, bytes, count);
    }
    if (!is_file(fd)) return REAL(write)(fd, bytes, count);
    if (fails()) return -1;
    begin_call();
    off64_t at = lseek64(fd, 0, SEEK_CUR);
    return written(fd, bytes, at, REAL(write)(fd, bytes, count));
}
ssize_t pwrite(int fd, const void *bytes, size_t count, off_t at) {
    if (!is_file(fd)) return REAL(pwrite)(fd, bytes, count, at);
    if (fails()) return -1;
    begin_call();
    return written(fd, bytes, at, REAL(pwrite)(fd, bytes, count, at));
}
ssize_t pwrite64(int fd, const void *bytes, size_t count, off64_t at) {
    if (!is_file(fd)) return REAL(pwrite64)(fd, bytes, count, at);
    if (fails()) return -1;
    begin_call();
    return written(fd, bytes, at, REAL(pwrite64)(fd, bytes, count, at));
}
ssize_t copy_file_range(int from, off64_t *at, int to, off64_t *at_to, size_t count, unsigned flags) {
    if (is_file(to) && fails()) return -1;
    return REAL(copy_file_range)(from, at, to, at_to, count, flags);
}
int fsync(int fd) {
    if (fd > 2 && fails()) return -1;
    begin_call();
    return done_to('s', fd, 0, REAL(fsync)(fd));
}
int fdatasync(int fd) {
    if (fd > 2 && fails()) return -1;
    begin_call();
    return done_to('s', fd, 0, REAL(fdatasync)(fd));
}
int ftruncate(int fd, off_t length) {
    if (is_file(fd) && fails()) return -1;
    begin_call();
    return done_to('t', fd, length, REAL(ftruncate)(fd, length));
}
int ftruncate64(int fd, off64_t length) {
    if (is_file(fd) && fails()) return -1;
    begin_call();
    return done_to('t', fd, length, REAL(ftruncate64)(fd, length));
}
int rename(const char *from, const char *to) {
    if (fails()) return -1;
    return REAL(rename)(from, to);
}
int unlink(const char *path) {
    if (fails()) return -1;
    begin_call();
    int result = REAL(unlink)(path);
    end_call('u', path, 0, NULL, 0);
    return result;
}
int link(const char *from, const char *to) {
    if (fails()) return -1;
    return REAL(link)(from, to);
}
int linkat(int from_at, const char *from, int to_at, const char *to, int flags) {
    if (fails()) return -1;
    return REAL(linkat)(from_at, from, to_at, to, flags);
}

/* A library that is preloaded into the program, and lets one of its calls to the system fail, or ends the program there.

   FAULTS_COUNTER   a file of 16 bytes, shared by all processes of a run: how many points were passed; how many faults were made
   FAULTS_UNDER     only calls that concern paths below this folder are points (and all connections)
   FAULTS_AT        the point at which something happens; 0: none, the points are only counted
   FAULTS_KIND      error: that one call fails.  full: from that one on, whatever takes space fails.  kill: the process is ended
   FAULTS_TRACE     a file to which each point is written, a line each

   Points are: write, pwrite, ftruncate, posix_fallocate, rename, link, symlink, unlink, rmdir, mkdir, fsync, fdatasync, connect,
   and open where it creates. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <signal.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <unistd.h>

static volatile uint64_t *counters;
static char mapped_from[PATH_MAX];

#define REAL(name) static __typeof__(name) *real; if (!real) real = dlsym(RTLD_NEXT, #name)

static int is_below(const char *path) {
    const char *under = getenv("FAULTS_UNDER");
    size_t length = under ? strlen(under) : 0;
    return length && strncmp(path, under, length) == 0 && (path[length] == '/' || path[length] == 0);
}

static int concerns(int at, const char *path) {
    char whole[2 * PATH_MAX], link[64];
    ssize_t length = 0;
    if (path && path[0] == '/') return is_below(path);
    if (at == AT_FDCWD) {
        if (!getcwd(whole, PATH_MAX)) return 0;
        length = strlen(whole);
    } else {
        snprintf(link, sizeof link, "/proc/self/fd/%d", at);
        length = readlink(link, whole, PATH_MAX - 1);
        if (length < 0) return 0;
        whole[length] = 0;
    }
    if (path) snprintf(whole + length, sizeof whole - length, "/%s", path);
    return is_below(whole);
}

/* Whether the call is to fail; a process that is to end does not come back. */
static int fails(const char *name, int takes_space) {
    const char *file = getenv("FAULTS_COUNTER"), *at = getenv("FAULTS_AT"), *kind = getenv("FAULTS_KIND");
    if (!file || !at || !kind) return 0;
    int saved = errno;
    if (strcmp(file, mapped_from) != 0) {
        int (*open_file)(const char *, int, ...) = dlsym(RTLD_NEXT, "open");
        int descriptor = open_file(file, O_RDWR | O_CLOEXEC);
        if (descriptor < 0) { errno = saved; return 0; }
        counters = mmap(NULL, 16, PROT_READ | PROT_WRITE, MAP_SHARED, descriptor, 0);
        close(descriptor);
        if (counters == MAP_FAILED) { counters = NULL; errno = saved; return 0; }
        snprintf(mapped_from, sizeof mapped_from, "%s", file);
    }
    uint64_t point = __sync_add_and_fetch(&counters[0], 1);
    const char *trace = getenv("FAULTS_TRACE");
    if (trace) {
        FILE *out = fopen(trace, "a");
        if (out) { fprintf(out, "%llu %s\n", (unsigned long long)point, name); fclose(out); }
    }
    uint64_t wanted = strtoull(at, NULL, 10);
    int hit = wanted && (point == wanted || (point > wanted && takes_space && strcmp(kind, "full") == 0));
    if (hit) {
        __sync_add_and_fetch(&counters[1], 1);
        if (strcmp(kind, "kill") == 0) { kill(getpid(), SIGKILL); for (;;) pause(); }
        if (strcmp(kind, "full") == 0 && !takes_space) hit = 0;
    }
    errno = saved;
    return hit;
}

#define POINT(condition, takes_space, code) \
    if ((condition) && fails(__func__, takes_space)) { errno = code; return -1; }

ssize_t write(int fd, const void *data, size_t count) {
    REAL(write);
    POINT(fd > 2 && concerns(fd, NULL), 1, ENOSPC)
    return real(fd, data, count);
}
ssize_t pwrite(int fd, const void *data, size_t count, off_t at) {
    REAL(pwrite);
    POINT(concerns(fd, NULL), 1, ENOSPC)
    return real(fd, data, count, at);
}
ssize_t pwrite64(int fd, const void *data, size_t count, off64_t at) {
    REAL(pwrite64);
    POINT(concerns(fd, NULL), 1, ENOSPC)
    return real(fd, data, count, at);
}
int ftruncate(int fd, off_t size) {
    REAL(ftruncate);
    POINT(concerns(fd, NULL), 0, EIO)
    return real(fd, size);
}
int ftruncate64(int fd, off64_t size) {
    REAL(ftruncate64);
    POINT(concerns(fd, NULL), 0, EIO)
    return real(fd, size);
}
int posix_fallocate(int fd, off_t at, off_t size) {
    REAL(posix_fallocate);
    if (concerns(fd, NULL) && fails(__func__, 1)) return ENOSPC;
    return real(fd, at, size);
}
int posix_fallocate64(int fd, off64_t at, off64_t size) {
    REAL(posix_fallocate64);
    if (concerns(fd, NULL) && fails(__func__, 1)) return ENOSPC;
    return real(fd, at, size);
}
int rename(const char *from, const char *to) {
    REAL(rename);
    POINT(concerns(AT_FDCWD, to), 0, EIO)
    return real(from, to);
}
int renameat(int from_fd, const char *from, int to_fd, const char *to) {
    REAL(renameat);
    POINT(concerns(to_fd, to), 0, EIO)
    return real(from_fd, from, to_fd, to);
}
int link(const char *from, const char *to) {
    REAL(link);
    POINT(concerns(AT_FDCWD, to), 1, ENOSPC)
    return real(from, to);
}
int linkat(int from_fd, const char *from, int to_fd, const char *to, int flags) {
    REAL(linkat);
    POINT(concerns(to_fd, to), 1, ENOSPC)
    return real(from_fd, from, to_fd, to, flags);
}
int symlink(const char *target, const char *path) {
    REAL(symlink);
    POINT(concerns(AT_FDCWD, path), 1, ENOSPC)
    return real(target, path);
}
int symlinkat(const char *target, int fd, const char *path) {
    REAL(symlinkat);
    POINT(concerns(fd, path), 1, ENOSPC)
    return real(target, fd, path);
}
int unlink(const char *path) {
    REAL(unlink);
    POINT(concerns(AT_FDCWD, path), 0, EIO)
    return real(path);
}
int unlinkat(int fd, const char *path, int flags) {
    REAL(unlinkat);
    POINT(concerns(fd, path), 0, EIO)
    return real(fd, path, flags);
}
int rmdir(const char *path) {
    REAL(rmdir);
    POINT(concerns(AT_FDCWD, path), 0, EIO)
    return real(path);
}
int mkdir(const char *path, mode_t mode) {
    REAL(mkdir);
    POINT(concerns(AT_FDCWD, path), 1, ENOSPC)
    return real(path, mode);
}
int mkdirat(int fd, const char *path, mode_t mode) {
    REAL(mkdirat);
    POINT(concerns(fd, path), 1, ENOSPC)
    return real(fd, path, mode);
}
int fsync(int fd) {
    REAL(fsync);
    POINT(concerns(fd, NULL), 0, EIO)
    return real(fd);
}
int fdatasync(int fd) {
    REAL(fdatasync);
    POINT(concerns(fd, NULL), 0, EIO)
    return real(fd);
}
int connect(int fd, const struct sockaddr *place, socklen_t length) {
    REAL(connect);
    POINT(place->sa_family == AF_INET || place->sa_family == AF_UNIX, 0, ECONNREFUSED)
    return real(fd, place, length);
}
static int mode_of(int flags, va_list rest) {
    return (flags & O_CREAT) || (flags & O_TMPFILE) == O_TMPFILE ? va_arg(rest, int) : 0;
}
#define OPENS() \
    va_list rest; va_start(rest, flags); int mode = mode_of(flags, rest); va_end(rest);
int open(const char *path, int flags, ...) {
    REAL(open);
    OPENS()
    POINT((flags & O_CREAT) && concerns(AT_FDCWD, path), 1, ENOSPC)
    return real(path, flags, mode);
}
int open64(const char *path, int flags, ...) {
    REAL(open64);
    OPENS()
    POINT((flags & O_CREAT) && concerns(AT_FDCWD, path), 1, ENOSPC)
    return real(path, flags, mode);
}
int openat(int fd, const char *path, int flags, ...) {
    REAL(openat);
    OPENS()
    POINT((flags & O_CREAT) && concerns(fd, path), 1, ENOSPC)
    return real(fd, path, flags, mode);
}
int openat64(int fd, const char *path, int flags, ...) {
    REAL(openat64);
    OPENS()
    POINT((flags & O_CREAT) && concerns(fd, path), 1, ENOSPC)
    return real(fd, path, flags, mode);
}

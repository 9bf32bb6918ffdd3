/* Preloaded into the application (obstacles.py compiles it): its clock is moved, and what it writes below a folder fails from
 * a certain write on, as the page of memory says that both sides share. A write is each call that would change a disk.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/time.h>
#include <sys/types.h>
#include <time.h>
#include <unistd.h>

struct page {
    int64_t clock_seconds; /* added to the time of day */
    int64_t error;         /* errno of what fails; 0: nothing does */
    int64_t let_through;   /* so many writes go well before the first that fails */
    int64_t writes;        /* so many were made, or refused */
    char below[PATH_MAX];
};
static struct page *page;

__attribute__((constructor)) static void begin(void) {
    const char *path = getenv("RUMBREL_OBSTACLES");
    int fd = path ? open(path, O_RDWR | O_CLOEXEC) : -1;
    if (fd < 0) return;
    void *at = mmap(NULL, sizeof *page, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
    if (at != MAP_FAILED) page = at;
    close(fd);
}

#define REAL(result, name, ...) \
    static result (*real)(__VA_ARGS__); \
    if (!real) real = (result (*)(__VA_ARGS__))dlsym(RTLD_NEXT, #name)

static int is_below(const char *path) {
    size_t length = strlen(page->below);
    return length && !strncmp(path, page->below, length) && (path[length] == '/' || !path[length]);
}

static int refused_at(const char *path, int counts_when_full) {
    if (!page || !is_below(path) || (page->error == ENOSPC && !counts_when_full)) return 0;
    int64_t number = __atomic_fetch_add(&page->writes, 1, __ATOMIC_SEQ_CST);
    if (!page->error || number < page->let_through) return 0;
    errno = (int)page->error;
    return 1;
}

static int refused(int folder, const char *path, int counts_when_full) {
    char whole[2 * PATH_MAX], start[PATH_MAX] = "";
    if (!page || !path) return 0;
    if (path[0] == '/') return refused_at(path, counts_when_full);
    if (folder == AT_FDCWD) {
        if (!getcwd(start, sizeof start)) return 0;
    } else {
        char link[64];
        snprintf(link, sizeof link, "/proc/self/fd/%d", folder);
        ssize_t length = readlink(link, start, sizeof start - 1);
        if (length < 0) return 0;
        start[length] = 0;
    }
    snprintf(whole, sizeof whole, "%s/%s", start, path);
    return refused_at(whole, counts_when_full);
}

static int refused_open(int fd, int counts_when_full) {
    char link[64], path[PATH_MAX];
    if (!page) return 0;
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t length = readlink(link, path, sizeof path - 1);
    if (length < 0) return 0;
    path[length] = 0;
    return refused_at(path, counts_when_full);
}

/* Bytes: a disk that becomes full takes the first half of the last piece. A size of -1 says that it takes none. */
static ssize_t taken(int fd, size_t size) {
    int64_t before = page ? page->writes : 0;
    if (refused_open(fd, 1)) return -1;
    int is_last = page && page->writes > before && page->error == ENOSPC && page->writes == page->let_through;
    return (ssize_t)(is_last && size > 1 ? size / 2 : size);
}
ssize_t write(int fd, const void *from, size_t size) {
    REAL(ssize_t, write, int, const void *, size_t);
    ssize_t some = taken(fd, size);
    return some < 0 ? -1 : real(fd, from, (size_t)some);
}
ssize_t pwrite(int fd, const void *from, size_t size, off_t at) {
    REAL(ssize_t, pwrite, int, const void *, size_t, off_t);
    ssize_t some = taken(fd, size);
    return some < 0 ? -1 : real(fd, from, (size_t)some, at);
}
ssize_t pwrite64(int fd, const void *from, size_t size, off64_t at) {
    REAL(ssize_t, pwrite64, int, const void *, size_t, off64_t);
    ssize_t some = taken(fd, size);
    return some < 0 ? -1 : real(fd, from, (size_t)some, at);
}
ssize_t sendfile64(int to, int from, off64_t *at, size_t size) {
    REAL(ssize_t, sendfile64, int, int, off64_t *, size_t);
    return refused_open(to, 1) ? -1 : real(to, from, at, size);
}
ssize_t sendfile(int to, int from, off_t *at, size_t size) {
    REAL(ssize_t, sendfile, int, int, off_t *, size_t);
    return refused_open(to, 1) ? -1 : real(to, from, at, size);
}
ssize_t copy_file_range(int from, off64_t *at, int to, off64_t *into, size_t size, unsigned flags) {
    REAL(ssize_t, copy_file_range, int, off64_t *, int, off64_t *, size_t, unsigned);
    return refused_open(to, 1) ? -1 : real(from, at, to, into, size, flags);
}

#define OF_A_FILE(name, more, given) \
    int name more { \
        REAL(int, name, TYPES_OF_##name); \
        return refused_open(fd, 1) ? -1 : real given; \
    }
#define TYPES_OF_ftruncate int, off_t
#define TYPES_OF_ftruncate64 int, off64_t
#define TYPES_OF_fsync int
#define TYPES_OF_fdatasync int
#define TYPES_OF_fallocate int, int, off_t, off_t
#define TYPES_OF_fallocate64 int, int, off64_t, off64_t
OF_A_FILE(ftruncate, (int fd, off_t size), (fd, size))
OF_A_FILE(ftruncate64, (int fd, off64_t size), (fd, size))
OF_A_FILE(fsync, (int fd), (fd))
OF_A_FILE(fdatasync, (int fd), (fd))
OF_A_FILE(fallocate, (int fd, int mode, off_t at, off_t size), (fd, mode, at, size))
OF_A_FILE(fallocate64, (int fd, int mode, off64_t at, off64_t size), (fd, mode, at, size))

/* Names. What takes none away from the room goes on a full disk. */
#define OPENS(name, folder, more, given, rest) \
    int name more { \
        mode_t mode = 0; \
        if (flags & (O_CREAT | O_TMPFILE)) { \
            va_list list; \
            va_start(list, flags); \
            mode = va_arg(list, mode_t); \
            va_end(list); \
        } \
        REAL(int, name, rest, mode_t); \
        int changes = (flags & (O_CREAT | O_TRUNC)) || (flags & O_ACCMODE) != O_RDONLY; \
        return changes && refused(folder, path, flags & O_CREAT) ? -1 : real given; \
    }
#define PLAIN const char *, int
#define AT int, const char *, int
OPENS(open, AT_FDCWD, (const char *path, int flags, ...), (path, flags, mode), PLAIN)
OPENS(open64, AT_FDCWD, (const char *path, int flags, ...), (path, flags, mode), PLAIN)
OPENS(openat, folder, (int folder, const char *path, int flags, ...), (folder, path, flags, mode), AT)
OPENS(openat64, folder, (int folder, const char *path, int flags, ...), (folder, path, flags, mode), AT)

int rename(const char *from, const char *to) {
    REAL(int, rename, const char *, const char *);
    return refused(AT_FDCWD, to, 1) ? -1 : real(from, to);
}
int renameat(int from_folder, const char *from, int folder, const char *to) {
    REAL(int, renameat, int, const char *, int, const char *);
    return refused(folder, to, 1) ? -1 : real(from_folder, from, folder, to);
}
int link(const char *from, const char *to) {
    REAL(int, link, const char *, const char *);
    return refused(AT_FDCWD, to, 1) ? -1 : real(from, to);
}
int symlink(const char *from, const char *to) {
    REAL(int, symlink, const char *, const char *);
    return refused(AT_FDCWD, to, 1) ? -1 : real(from, to);
}
int mkdir(const char *path, mode_t mode) {
    REAL(int, mkdir, const char *, mode_t);
    return refused(AT_FDCWD, path, 1) ? -1 : real(path, mode);
}
int unlink(const char *path) {
    REAL(int, unlink, const char *);
    return refused(AT_FDCWD, path, 0) ? -1 : real(path);
}
int unlinkat(int folder, const char *path, int flags) {
    REAL(int, unlinkat, int, const char *, int);
    return refused(folder, path, 0) ? -1 : real(folder, path, flags);
}
int rmdir(const char *path) {
    REAL(int, rmdir, const char *);
    return refused(AT_FDCWD, path, 0) ? -1 : real(path);
}

/* The time of day, and times that a file is given as "now". */
int clock_gettime(clockid_t clock, struct timespec *now) {
    REAL(int, clock_gettime, clockid_t, struct timespec *);
    int answer = real(clock, now);
    if (!answer && page && clock == CLOCK_REALTIME) now->tv_sec += page->clock_seconds;
    return answer;
}
int gettimeofday(struct timeval *restrict now, void *restrict zone) {
    struct timespec fine;
    (void)zone;
    clock_gettime(CLOCK_REALTIME, &fine);
    now->tv_sec = fine.tv_sec;
    now->tv_usec = fine.tv_nsec / 1000;
    return 0;
}
time_t time(time_t *kept) {
    struct timespec now;
    clock_gettime(CLOCK_REALTIME, &now);
    if (kept) *kept = now.tv_sec;
    return now.tv_sec;
}
int utimensat(int folder, const char *path, const struct timespec times[2], int flags) {
    REAL(int, utimensat, int, const char *, const struct timespec *, int);
    struct timespec now[2];
    if (refused(folder, path, 0)) return -1;
    if (!times && page && page->clock_seconds) {
        clock_gettime(CLOCK_REALTIME, &now[0]);
        now[1] = now[0];
        times = now;
    }
    return real(folder, path, times, flags);
}

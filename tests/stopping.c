/* Ends the process right before one of its writes, syncs, renames or requests: loaded before the C library (LD_PRELOAD).
 *
 * stop_before(n): the n-th of those calls from now on does not happen any more. 0: none is counted.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <fcntl.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <sys/uio.h>
#include <unistd.h>

static long left;

void stop_before(long number) { left = number; }

static void stop(const char *call, const char *path, int fd) {
    char link[64], target[512] = "";
    if (!path) {
        snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
        ssize_t size = readlink(link, target, sizeof target - 1);
        target[size < 0 ? 0 : size] = 0;
        path = target;
    }
    dprintf(2, "\nstopped before %s %s\n", call, path);
    kill(getpid(), SIGKILL);
    for (;;) pause();
}

/* Standard output and error are what a person reads, and say nothing of what stays. */
static void count(const char *call, const char *path, int fd) {
    if (left > 0 && (path || fd > 2) && --left == 0) stop(call, path, fd);
}

#define NEXT(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))
#define BY_FD(type, name, parameters, arguments) \
    type name parameters { count(#name, NULL, fd); return NEXT(name) arguments; }
#define BY_PATH(type, name, parameters, arguments) \
    type name parameters { count(#name, path, -1); return NEXT(name) arguments; }

BY_FD(ssize_t, write, (int fd, const void *data, size_t size), (fd, data, size))
BY_FD(ssize_t, writev, (int fd, const struct iovec *parts, int number), (fd, parts, number))
BY_FD(ssize_t, pwrite, (int fd, const void *data, size_t size, off_t at), (fd, data, size, at))
BY_FD(ssize_t, pwrite64, (int fd, const void *data, size_t size, off64_t at), (fd, data, size, at))
BY_FD(ssize_t, send, (int fd, const void *data, size_t size, int flags), (fd, data, size, flags))
BY_FD(ssize_t, sendmsg, (int fd, const struct msghdr *message, int flags), (fd, message, flags))
BY_FD(int, fsync, (int fd), (fd))
BY_FD(int, fdatasync, (int fd), (fd))
BY_FD(int, ftruncate, (int fd, off_t size), (fd, size))
BY_FD(int, ftruncate64, (int fd, off64_t size), (fd, size))
BY_FD(int, fchmod, (int fd, mode_t mode), (fd, mode))
BY_PATH(int, rename, (const char *path, const char *to), (path, to))
BY_PATH(int, unlink, (const char *path), (path))
BY_PATH(int, mkdir, (const char *path, mode_t mode), (path, mode))
BY_PATH(int, link, (const char *path, const char *to), (path, to))

ssize_t sendto(int fd, const void *data, size_t size, int flags, const struct sockaddr *to, socklen_t length) {
    count("sendto", NULL, fd);
    return NEXT(sendto)(fd, data, size, flags, to, length);
}

#define OPEN(name) \
    int name(const char *path, int flags, ...) { \
        mode_t mode = 0; \
        if (flags & O_CREAT) { \
            va_list rest; \
            va_start(rest, flags); \
            mode = va_arg(rest, mode_t); \
            va_end(rest); \
            if (access(path, F_OK)) count(#name, path, -1); \
        } \
        return NEXT(name)(path, flags, mode); \
    }
OPEN(open)
OPEN(open64)

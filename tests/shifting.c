/* Another time of day: whatever asks the C library for the real time is answered so many seconds later. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <stdlib.h>
#include <sys/time.h>
#include <time.h>

static long shift(void) {
    const char *seconds = getenv("SHIFTED_BY");
    return seconds ? atol(seconds) : 0;
}

int clock_gettime(clockid_t clock, struct timespec *now) {
    static int (*real)(clockid_t, struct timespec *);
    if (!real) real = (int (*)(clockid_t, struct timespec *))dlsym(RTLD_NEXT, "clock_gettime");
    int done = real(clock, now);
    if (!done && (clock == CLOCK_REALTIME || clock == CLOCK_REALTIME_COARSE)) now->tv_sec += shift();
    return done;
}

time_t time(time_t *into) {
    struct timespec now;
    clock_gettime(CLOCK_REALTIME, &now);
    if (into) *into = now.tv_sec;
    return now.tv_sec;
}

int gettimeofday(struct timeval *now, void *zone) {
    struct timespec exact;
    (void)zone;
    clock_gettime(CLOCK_REALTIME, &exact);
    now->tv_sec = exact.tv_sec;
    now->tv_usec = exact.tv_nsec / 1000;
    return 0;
}

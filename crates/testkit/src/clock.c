/* Puts the clock of a program at another moment: loaded before its libraries, it adds a number of seconds. */
#define _GNU_SOURCE
#include <stdlib.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <time.h>
#include <unistd.h>

static long shift(void) {
    const char *seconds = getenv("TESTKIT_CLOCK_SHIFT");
    return seconds ? atol(seconds) : 0;
}

int clock_gettime(clockid_t clock, struct timespec *at) {
    int code = syscall(SYS_clock_gettime, clock, at);
    if (code == 0 && (clock == CLOCK_REALTIME || clock == CLOCK_REALTIME_COARSE)) at->tv_sec += shift();
    return code;
}

int gettimeofday(struct timeval *restrict at, void *restrict zone) {
    struct timespec now;
    (void)zone;
    int code = clock_gettime(CLOCK_REALTIME, &now);
    at->tv_sec = now.tv_sec;
    at->tv_usec = now.tv_nsec / 1000;
    return code;
}

time_t time(time_t *at) {
    struct timespec now;
    clock_gettime(CLOCK_REALTIME, &now);
    if (at) *at = now.tv_sec;
    return now.tv_sec;
}

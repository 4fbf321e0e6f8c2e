/* A PKCS#11 module that passes everything on to another one and misbehaves as a file says. Built and used by tests alone.
   The directory of the file: the variable TOKEN_STAND_IN. In it: `next` (the module behind), `mode`, `log` (what was called). */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

typedef unsigned long num;
typedef num (*function)();
/* The functions of PKCS#11 2.40 in the order of its list. */
enum { OPEN_SESSION = 12, LOGIN = 18, GENERATE_KEY_PAIR = 59, SIGN = 43, COUNT = 68 };
struct list { unsigned char version[2]; function at[COUNT]; };

static struct list ours;
static struct list *next;
static int removed;

static void named(char *out, size_t size, const char *file) {
    snprintf(out, size, "%s/%s", getenv("TOKEN_STAND_IN"), file);
}

static int is(const char *mode) {
    char path[512], text[64] = "";
    named(path, sizeof path, "mode");
    FILE *f = fopen(path, "r");
    if (!f) return 0;
    if (!fgets(text, sizeof text, f)) text[0] = 0;
    fclose(f);
    text[strcspn(text, "\n")] = 0;
    return !strcmp(text, mode);
}

static void note(const char *what) {
    char path[512];
    named(path, sizeof path, "log");
    FILE *f = fopen(path, "a");
    if (f) { fprintf(f, "%s\n", what); fclose(f); }
}

/* What others could see of this process. */
static void show_process(void) {
    char path[512], text[65536];
    named(path, sizeof path, "seen");
    FILE *out = fopen(path, "a");
    const char *files[] = { "/proc/self/cmdline", "/proc/self/environ" };
    for (int i = 0; out && i < 2; i++) {
        int in = open(files[i], O_RDONLY);
        ssize_t n = in < 0 ? -1 : read(in, text, sizeof text);
        if (n > 0) fwrite(text, 1, (size_t)n, out);
        if (in >= 0) close(in);
    }
    if (out) fclose(out);
}

static num login(num session, num user, unsigned char *pin, num length) {
    note("login");
    show_process();
    return next->at[LOGIN](session, user, pin, length);
}

static num open_session(num slot, num flags, void *a, void *b, num *session) {
    if (is("gone") && removed) return 0xE0; /* CKR_TOKEN_NOT_PRESENT */
    removed = 0;
    return next->at[OPEN_SESSION](slot, flags, a, b, session);
}

static num make(num session, void *how, void *a, num na, void *b, num nb, num *public, num *private) {
    note("make");
    return next->at[GENERATE_KEY_PAIR](session, how, a, na, b, nb, public, private);
}

static num sign(num session, unsigned char *data, num length, unsigned char *out, num *out_length) {
    static int prints;
    if (is("print")) {
        /* Also what looks like an answer. */
        for (int i = 0; i < 500; i++) printf("{\"Signature\":\"AAAA\"}\n%d", prints++);
        fflush(stdout);
        fprintf(stderr, "noise\n");
    }
    if (is("exit")) exit(0);
    if (is("crash")) *(volatile int *)8 = 1;
    if (is("hang")) for (;;) pause();
    static int was_removed;
    if (is("once") && !was_removed) { was_removed = removed = 1; note("removed"); return 0x32; } /* CKR_DEVICE_REMOVED */
    if (is("gone")) { removed = 1; return 0x32; }
    if (is("refuse")) return 0x06; /* CKR_FUNCTION_FAILED */
    num rv = next->at[SIGN](session, data, length, out, out_length);
    if (is("wrong") && rv == 0 && out && *out_length) out[*out_length - 1] ^= 1;
    if (is("short") && rv == 0 && out && *out_length > 8) *out_length = 8;
    return rv;
}

num C_GetFunctionList(struct list **out) {
    char path[512], module[512] = "";
    named(path, sizeof path, "next");
    FILE *f = fopen(path, "r");
    if (!f || !fgets(module, sizeof module, f)) return 5;
    fclose(f);
    module[strcspn(module, "\n")] = 0;
    void *library = dlopen(module, RTLD_NOW);
    num (*theirs)(struct list **) = library ? (num (*)(struct list **))dlsym(library, "C_GetFunctionList") : 0;
    if (!theirs || theirs(&next)) return 5;
    ours = *next;
    ours.at[LOGIN] = (function)login;
    ours.at[OPEN_SESSION] = (function)open_session;
    ours.at[GENERATE_KEY_PAIR] = (function)make;
    ours.at[SIGN] = (function)sign;
    *out = &ours;
    return 0;
}

__attribute__((constructor)) static void loaded(void) {
    if (!getenv("TOKEN_STAND_IN")) return;
    if (is("load-print")) { printf("loaded\n"); fflush(stdout); }
    if (is("load-exit")) exit(0);
    if (is("load-crash")) *(volatile int *)8 = 1;
    if (is("load-hang")) for (;;) pause();
}

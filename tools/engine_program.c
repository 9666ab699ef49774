/* What tools/engine-agreement starts as the program of a container: says who it is, and does the acts it is given. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

int main(int count, char **words) {
    char text[8192];
    int status = open("/proc/self/status", O_RDONLY);
    ssize_t got;
    while (status >= 0 && (got = read(status, text, sizeof text)) > 0)
        fwrite(text, 1, got, stdout);
    /* As the interpreter of a script it is given that first. */
    for (int at = count > 1 && words[1][0] == '/' ? 2 : 1; at + 1 < count; at += 2) {
        const char *verb = words[at], *path = words[at + 1];
        int done = -1;
        if (!strcmp(verb, "reads")) done = open(path, O_RDONLY);
        if (!strcmp(verb, "writes")) done = open(path, O_WRONLY);
        if (!strcmp(verb, "creates")) done = open(path, O_WRONLY | O_CREAT | O_EXCL, 0666);
        if (!strcmp(verb, "may-read")) done = access(path, R_OK);
        if (!strcmp(verb, "may-write")) done = access(path, W_OK);
        if (!strcmp(verb, "gives")) done = chown(path, 405, -1);
        printf("act %s %s|%s\n", verb, path, done < 0 ? strerror(errno) : "done");
    }
    return 0;
}

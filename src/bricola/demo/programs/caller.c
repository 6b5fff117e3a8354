/* Calls one COBOL program again and again, with the areas that come on standard input (see host.py). Its exit status is 2 for a bad use,
 * 3 when the program is not found, 4 when a call is cut off. Whatever the program DISPLAYs goes to standard error.
 *
 *   gcc -O2 -o caller caller.c $(cob-config --cflags) $(cob-config --libs)
 *   COB_LIBRARY_PATH=folder ./caller PROGRAM
 */
#include <arpa/inet.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
#include <libcob.h>

#define MOST_AREAS 64
#define MOST_BYTES 32000000u

static int get(void *to, size_t count) {
    unsigned char *at = to;
    while (count > 0) {
        ssize_t got = read(0, at, count);
        if (got <= 0) return 0;
        at += got;
        count -= (size_t)got;
    }
    return 1;
}

static int put(int to, const void *from, size_t count) {
    const unsigned char *at = from;
    while (count > 0) {
        ssize_t done = write(to, at, count);
        if (done <= 0) return 0;
        at += done;
        count -= (size_t)done;
    }
    return 1;
}

int main(int count, char **words) {
    static void *areas[MOST_AREAS];
    static uint32_t rooms[MOST_AREAS];
    if (count != 2) return 2;
    int out = dup(1);
    dup2(2, 1);
    cob_init(0, NULL);
    if (cob_resolve(words[1]) == NULL) {
        fprintf(stderr, "%s\n", cob_resolve_error());
        return 3;
    }
    for (;;) {
        unsigned char many;
        if (!get(&many, 1)) break;
        if (many > MOST_AREAS) return 4;
        for (int i = 0; i < many; i++) {
            uint32_t head[2];
            if (!get(head, sizeof head)) return 4;
            uint32_t room = ntohl(head[0]), given = ntohl(head[1]);
            if (room > MOST_BYTES || given > room) return 4;
            areas[i] = calloc(room ? room : 1, 1);
            rooms[i] = room;
            if (areas[i] == NULL || !get(areas[i], given)) return 4;
        }
        int32_t code = (int32_t)htonl((uint32_t)cob_call(words[1], many, areas));
        if (!put(out, &code, sizeof code)) return 4;
        for (int i = 0; i < many; i++) {
            uint32_t room = htonl(rooms[i]);
            if (!put(out, &room, sizeof room) || !put(out, areas[i], rooms[i])) return 4;
            free(areas[i]);
        }
    }
    return cob_tidy() ? 1 : 0;
}

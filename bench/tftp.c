/* TFTP as fast as it goes, to measure Daskel against: `send ADDRESS PORT FILE` sends one file to
   everybody (one datagram buffer per window, cut by the kernel), `fetch FROM ADDRESS PORT WINDOW
   COUNT` fetches it COUNT times at once, from the address FROM on, and prints the seconds
   and the bytes. Little is checked: both ends are ours. */
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#define BLOCK 1428
#define EACH 16 /* transfers of one machine */
#define FRAME (BLOCK + 4)
#define SOL_UDP 17
#define UDP_SEGMENT 103

struct session {
  int sock, window, unanswered;
  long base, last; /* blocks acknowledged or received; the last one's number */
  long bytes;
  int done, server_known;
};

static struct sockaddr_in place(const char *address, int port) {
  struct sockaddr_in p = {.sin_family = AF_INET, .sin_port = htons(port)};
  inet_pton(AF_INET, address, &p.sin_addr);
  return p;
}

static int udp(const char *address, int port, int machine) {
  int sock = socket(AF_INET, SOCK_DGRAM | SOCK_NONBLOCK, 0);
  struct sockaddr_in own = place(address, port);
  own.sin_addr.s_addr = htonl(ntohl(own.sin_addr.s_addr) + machine);
  if (bind(sock, (void *)&own, sizeof own)) exit(2);
  return sock;
}

static double now(void) {
  struct timespec t;
  clock_gettime(CLOCK_MONOTONIC, &t);
  return t.tv_sec + t.tv_nsec / 1e9;
}

static unsigned char *content;
static long size;

static void send_window(struct session *s) {
  static unsigned char frames[65536 / 4 * 8];
  long end = s->base + s->window < s->last ? s->base + s->window : s->last, length = 0;
  for (long n = s->base + 1; n <= end; n++) {
    long at = (n - 1) * BLOCK, part = size - at < BLOCK ? size - at : BLOCK;
    unsigned char *f = frames + length;
    f[0] = 0, f[1] = 3, f[2] = n >> 8, f[3] = n;
    memcpy(f + 4, content + at, part);
    length += part + 4;
  }
  for (long at = 0; at < length;) {
    long most = 44 * FRAME, part = length - at < most ? length - at : most;
    struct iovec io = {frames + at, part};
    char note[CMSG_SPACE(2)] = {0};
    struct msghdr m = {.msg_iov = &io, .msg_iovlen = 1};
    if (part > FRAME) {
      m.msg_control = note, m.msg_controllen = sizeof note;
      struct cmsghdr *c = CMSG_FIRSTHDR(&m);
      c->cmsg_level = SOL_UDP, c->cmsg_type = UDP_SEGMENT, c->cmsg_len = CMSG_LEN(2);
      *(unsigned short *)CMSG_DATA(c) = FRAME;
    }
    sendmsg(s->sock, &m, 0);
    at += part;
  }
}

static void serve(const char *address, int port, const char *path) {
  int file = open(path, O_RDONLY), poll = epoll_create1(0), listening = udp(address, port, 0);
  struct stat status;
  fstat(file, &status);
  size = status.st_size;
  content = mmap(0, size + 1, PROT_READ, MAP_SHARED, file, 0);
  struct epoll_event e = {.events = EPOLLIN, .data.ptr = 0}, ready[256];
  epoll_ctl(poll, EPOLL_CTL_ADD, listening, &e);
  for (;;) {
    int count = epoll_wait(poll, ready, 256, -1);
    for (int i = 0; i < count; i++) {
      unsigned char in[2048], out[200];
      struct session *s = ready[i].data.ptr;
      long length;
      if (!s) {
        struct sockaddr_in peer;
        socklen_t l = sizeof peer;
        if ((length = recvfrom(listening, in, sizeof in, 0, (void *)&peer, &l)) < 0) continue;
        s = calloc(1, sizeof *s);
        char *asked = memmem(in, length, "windowsize", 10);
        s->window = asked ? atoi(asked + 11) : 1;
        s->last = size / BLOCK + 1;
        s->sock = udp(address, 0, 0);
        connect(s->sock, (void *)&peer, l);
        e.data.ptr = s;
        epoll_ctl(poll, EPOLL_CTL_ADD, s->sock, &e);
        int n = sprintf((char *)out, "%c%cblksize%c%d%cwindowsize%c%d", 0, 6, 0, BLOCK, 0, 0, s->window);
        send(s->sock, out, n + 1, 0);
        continue;
      }
      while ((length = recv(s->sock, in, sizeof in, 0)) >= 4) {
        long new = (((in[2] << 8 | in[3]) - s->base) & 0xffff);
        if (new <= s->window) s->base += new;
        if (s->base == s->last) {
          close(s->sock);
          free(s);
          break;
        }
        send_window(s);
      }
    }
  }
}

static int fetch(const char *from, const char *address, int port, int window, int count) {
  struct sockaddr_in server = place(address, port);
  struct rlimit files = {8192, 8192};
  setrlimit(RLIMIT_NOFILE, &files);
  struct session *all = calloc(count, sizeof *all);
  int poll = epoll_create1(0), left = count;
  double began = now(), heard = began;
  for (int i = 0; i < count; i++) {
    struct epoll_event e = {.events = EPOLLIN, .data.ptr = &all[i]};
    char out[200];
    int n = sprintf(out, "%c%clarge%coctet%cblksize%c%d", 0, 1, 0, 0, 0, BLOCK) + 1;
    if (window > 1) n += sprintf(out + n, "windowsize%c%d", 0, window) + 1;
    all[i].sock = udp(from, 0, i / EACH), all[i].window = window;
    epoll_ctl(poll, EPOLL_CTL_ADD, all[i].sock, &e);
    sendto(all[i].sock, out, n, 0, (void *)&server, sizeof server);
  }
  long bytes = 0;
  struct epoll_event ready[256];
  while (left && now() - heard < 20) {
    int found = epoll_wait(poll, ready, 256, 1000);
    if (found > 0) heard = now();
    for (int i = 0; i < found; i++) {
      struct session *s = ready[i].data.ptr;
      unsigned char in[2048], ack[4] = {0, 4};
      struct sockaddr_in peer;
      socklen_t l = sizeof peer;
      long length;
      while (!s->done && (length = recvfrom(s->sock, in, sizeof in, 0, (void *)&peer, &l)) >= 4) {
        if (!s->server_known) s->server_known = !connect(s->sock, (void *)&peer, l);
        int number = in[2] << 8 | in[3], answers = in[1] == 6;
        if (in[1] == 5) exit(3);
        if (in[1] == 3 && number == ((s->base + 1) & 0xffff)) {
          s->base++, s->bytes += length - 4, s->unanswered++;
          s->done = length < FRAME;
          answers = s->done || s->unanswered >= s->window;
        } else if (in[1] == 3) {
          answers = 1;
        }
        if (answers) {
          ack[2] = s->base >> 8, ack[3] = s->base, s->unanswered = 0;
          send(s->sock, ack, 4, 0);
        }
        if (s->done) left--, bytes += s->bytes;
      }
      if (s->done && s->sock >= 0) close(s->sock), s->sock = -1;
    }
  }
  printf("%f %ld %d\n", now() - began, bytes, left);
  return left != 0;
}

int main(int count, char **words) {
  if (count == 5 && !strcmp(words[1], "send")) serve(words[2], atoi(words[3]), words[4]);
  if (count == 7 && !strcmp(words[1], "fetch"))
    return fetch(words[2], words[3], atoi(words[4]), atoi(words[5]), atoi(words[6]));
  return 2;
}

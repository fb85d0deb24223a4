/* What READ is measured beside: `nfs ADDRESS PORT FILE HEAD SIZE` answers each record, whatever it
   says, with HEAD bytes and SIZE bytes of FILE, one piece after the other, by sendfile. */
#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/tcp.h>
#include <stdlib.h>
#include <sys/sendfile.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

static unsigned char waiting[1 << 18], head[4096];

int main(int count, char **words) {
  if (count != 6) return 2;
  long top = atol(words[4]), size = atol(words[5]), length = top - 4 + size, offset = 0;
  int file = open(words[3], O_RDONLY), on = 1;
  struct stat about;
  fstat(file, &about);
  unsigned mark = htonl(0x80000000u | (unsigned)length);
  __builtin_memcpy(head, &mark, 4);
  struct sockaddr_in own = {.sin_family = AF_INET, .sin_port = htons(atoi(words[2]))};
  inet_pton(AF_INET, words[1], &own.sin_addr);
  int listening = socket(AF_INET, SOCK_STREAM, 0);
  setsockopt(listening, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  if (bind(listening, (void *)&own, sizeof own) || listen(listening, 8)) return 2;
  for (;;) {
    int stream = accept(listening, 0, 0);
    setsockopt(stream, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
    long have = 0, got;
    while ((got = recv(stream, waiting + have, sizeof waiting - have, 0)) > 0) {
      long at = 0;
      have += got;
      for (;;) {
        if (have - at < 4) break;
        unsigned record;
        __builtin_memcpy(&record, waiting + at, 4);
        long bytes = 4 + (ntohl(record) & 0x7fffffff);
        if (have - at < bytes) break;
        at += bytes;
        send(stream, head, top, MSG_MORE);
        if (offset + size > about.st_size) offset = 0;
        for (long left = size; left > 0;) {
          long sent = sendfile(stream, file, &offset, left);
          if (sent <= 0) return 1;
          left -= sent;
        }
      }
      __builtin_memmove(waiting, waiting + at, have - at);
      have -= at;
    }
    close(stream);
  }
}

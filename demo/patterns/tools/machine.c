/* A machine for trying: whatever it is sent, it says that it has taken it. */
#include <arpa/inet.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

/* Reads a request to its end: as many bytes after its head as that says. */
static int take(int who)
{
	char heard[65536];
	size_t have = 0;

	while (have < sizeof heard - 1) {
		ssize_t more = read(who, heard + have, sizeof heard - 1 - have);
		char *body, *length;

		if (more <= 0)
			return 0;
		have += (size_t)more;
		heard[have] = 0;
		body = strstr(heard, "\r\n\r\n");
		length = strstr(heard, "Content-Length: ");
		if (body && (!length || have >= (size_t)(body + 4 - heard) + (size_t)atol(length + 16)))
			return 1;
	}
	return 0;
}

int main(int count, char **words)
{
	struct sockaddr_in place = { .sin_family = AF_INET };
	int on = 1, door = socket(AF_INET, SOCK_STREAM, 0);

	place.sin_port = htons((unsigned short)(count > 1 ? atoi(words[1]) : 7999));
	place.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
	setsockopt(door, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
	if (bind(door, (struct sockaddr *)&place, sizeof place) || listen(door, 8)) {
		perror("the machine");
		return 1;
	}
	for (;;) {
		int who = accept(door, NULL, NULL);

		if (who >= 0 && take(who))
			dprintf(who, "HTTP/1.0 200 OK\r\n\r\ntaken\n");
		close(who);
	}
}

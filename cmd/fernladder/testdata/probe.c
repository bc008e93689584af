/* Tries one thing that a build has no business doing, and ends with status 0 if it
   could do it. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <linux/perf_event.h>
#include <mqueue.h>
#include <sched.h>
#include <signal.h>
#include <stddef.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <arpa/inet.h>
#include <netinet/in.h>
#include <sys/ioctl.h>
#include <sys/klog.h>
#include <sys/mount.h>
#include <sys/mman.h>
#include <sys/ptrace.h>
#include <sys/resource.h>
#include <sys/shm.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/sysmacros.h>
#include <sys/time.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <unistd.h>

static const char *arg;

static int writable(const char *path) { return open(path, O_WRONLY | O_NONBLOCK) < 0; }

static int to_port(int type, int protocol) {
	struct sockaddr_in a = {.sin_family = AF_INET, .sin_port = htons(atoi(arg)), .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	int s = socket(AF_INET, type, protocol);
	if (s < 0 || connect(s, (struct sockaddr *)&a, sizeof a) != 0)
		return 1;
	if (send(s, "x", 1, 0) != 1)
		return 1;
	char c;
	struct timeval wait = {1, 0};
	setsockopt(s, SOL_SOCKET, SO_RCVTIMEO, &wait, sizeof wait);
	return recv(s, &c, 1, 0) != 1; /* the other side answers */
}

static int to_unix(int abstract) {
	struct sockaddr_un a = {.sun_family = AF_UNIX};
	int s = socket(AF_UNIX, SOCK_STREAM, 0);
	strncpy(a.sun_path + abstract, arg, sizeof a.sun_path - 1 - abstract);
	return s < 0 || connect(s, (struct sockaddr *)&a, offsetof(struct sockaddr_un, sun_path) + abstract + strlen(arg)) != 0;
}

static int fails(long r) { return r < 0; }

static int probe(const char *what) {
#define IS(name) (strcmp(what, name) == 0)
	if (IS("open-write")) return writable(arg);
	if (IS("read")) { char c; int f = open(arg, O_RDONLY | O_NONBLOCK); return f < 0 || read(f, &c, 1) != 1; }
	if (IS("chmod")) return chmod(arg, 0777);
	if (IS("chown")) return chown(arg, getuid() + 1, -1);
	if (IS("setxattr")) return setxattr(arg, "user.fern", "x", 1, 0);
	if (IS("utimes")) { struct timeval t[2] = {{1, 0}, {1, 0}}; return utimes(arg, t); }
	if (IS("link")) return link(arg, "linked");
	if (IS("mknod")) return mknod("device", S_IFBLK | 0600, makedev(8, 0));
	if (IS("mount")) return mount("none", "/tmp", "tmpfs", 0, 0);
	if (IS("fsopen")) return fails(syscall(430, "tmpfs", 0));
	if (IS("unshare-user")) return unshare(CLONE_NEWUSER);
	if (IS("unshare-mount")) return unshare(CLONE_NEWNS);
	if (IS("unshare-net")) return unshare(CLONE_NEWNET);
	if (IS("clone-user")) { long p = syscall(SYS_clone, CLONE_NEWUSER | SIGCHLD, 0, 0, 0, 0); if (p == 0) _exit(0); return p < 0; }
	if (IS("chroot")) return chroot(".");
	if (IS("setns")) { int f = open("/proc/1/ns/mnt", O_RDONLY); return f < 0 || setns(f, 0); }
	if (IS("keyring")) return fails(syscall(SYS_keyctl, 0, -3, 0));
	if (IS("add-key")) return fails(syscall(SYS_add_key, "user", "fern", "x", 1, -4));
	if (IS("bpf")) { char attr[128] = {0}; attr[0] = 1; attr[4] = 4; attr[8] = 4; attr[12] = 1; return fails(syscall(SYS_bpf, 0, attr, sizeof attr)); }
	if (IS("perf")) { struct perf_event_attr a = {.type = PERF_TYPE_SOFTWARE, .size = sizeof a, .config = PERF_COUNT_SW_CPU_CLOCK, .exclude_kernel = 1}; return fails(syscall(SYS_perf_event_open, &a, 0, -1, -1, 0)); }
	if (IS("userfaultfd")) return fails(syscall(SYS_userfaultfd, 1));
	if (IS("io-uring")) { char p[128] = {0}; return fails(syscall(425, 4, p)); }
	if (IS("ptrace")) { int p = atoi(arg), r = ptrace(PTRACE_ATTACH, p, 0, 0); if (r == 0) { waitpid(p, 0, 0); ptrace(PTRACE_DETACH, p, 0, 0); } return r; }
	if (IS("signal")) return kill(atoi(arg), 0);
	if (IS("hostname")) { char n[65]; return gethostname(n, sizeof n) || sethostname(n, strlen(n)); }
	if (IS("module")) return errno = 0, syscall(SYS_init_module, "x", 1, "") == -1 && errno != ENOEXEC;
	if (IS("settime")) { struct timespec t; clock_gettime(CLOCK_REALTIME, &t); return clock_settime(CLOCK_REALTIME, &t); }
	if (IS("syslog")) return klogctl(10, 0, 0) < 0 || klogctl(3, (char[1024]){0}, 1024) < 0;
	if (IS("tcp")) return to_port(SOCK_STREAM, 0);
	if (IS("udp")) return to_port(SOCK_DGRAM, 0);
	if (IS("mptcp")) return to_port(SOCK_STREAM, 262);
	if (IS("raw")) return fails(socket(AF_INET, SOCK_RAW, IPPROTO_ICMP));
	if (IS("packet")) return fails(socket(AF_PACKET, SOCK_RAW, 0));
	if (IS("alg")) return fails(socket(38, SOCK_SEQPACKET, 0));
	if (IS("vsock")) return fails(socket(40, SOCK_STREAM, 0));
	if (IS("abstract")) return to_unix(1);
	if (IS("unix")) return to_unix(0);
	if (IS("shm")) return fails(shmget(atoi(arg), 4096, IPC_CREAT | 0600));
	if (IS("mq")) return fails(mq_open("/fern-probe", O_CREAT | O_RDWR, 0600, 0));
	if (IS("nice")) return setpriority(PRIO_PROCESS, 0, -5);
	if (IS("realtime")) { struct sched_param s = {.sched_priority = 1}; return sched_setscheduler(0, SCHED_FIFO, &s); }
	if (IS("become-root")) return setuid(0) || getuid();
	if (IS("processes")) { /* more than are allowed */
		int most = atoi(arg), n = 0;
		pid_t *all = calloc(most, sizeof *all);
		for (; n < most; n++) {
			if ((all[n] = fork()) < 0) break;
			if (all[n] == 0) { pause(); _exit(0); }
		}
		for (int i = 0; i < n; i++) { /* the probes after this one fork, too */
			kill(all[i], SIGKILL);
			waitpid(all[i], 0, 0);
		}
		return n < most;
	}
	if (IS("large-file")) { int f = open("large", O_CREAT | O_WRONLY, 0600); signal(SIGXFSZ, SIG_IGN); return ftruncate(f, atoll(arg)); }
	if (IS("fill")) { /* a directory, up to so many MiB */
		static char block[1 << 20];
		char name[4096];
		int most = atoi(arg);
		memset(block, 'x', sizeof block);
		snprintf(name, sizeof name, "%s/fill", getenv("FILL"));
		int f = open(name, O_CREAT | O_WRONLY | O_TRUNC, 0600), full = f < 0;
		for (int i = 0; i < most && !full; i++)
			full = write(f, block, sizeof block) != sizeof block;
		unlink(name);
		return full;
	}
	if (IS("int80")) { /* the calls of the 386: mount */
#ifdef __x86_64__
		static char low[] = "/";
		char *p = mmap(0, 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_32BIT, -1, 0);
		long r;
		strcpy(p, low);
		__asm__ volatile("int $0x80" : "=a"(r) : "a"(310L), "b"((long)CLONE_NEWUSER) : "memory", "r8", "r9", "r10", "r11");
		return r < 0;
#else
		return 1;
#endif
	}
	if (IS("x32")) {
#ifdef __x86_64__
		return fails(syscall(0x40000000 | 39));
#else
		return 1;
#endif
	}
	if (IS("type")) { char c = 'x'; return ioctl(0, TIOCSTI, &c); }
	fprintf(stderr, "no probe %s\n", what);
	return 99;
}

int main(int argc, char **argv) {
	arg = argc > 2 ? argv[2] : "";
	return probe(argv[1]) != 0;
}

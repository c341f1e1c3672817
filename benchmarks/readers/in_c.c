/* Answers for getopt_long(3) and getopt(3): in_c SHORT LONG… -- WORD…; prints the options and operands, a line each, or
   ends with 2. With POSIXLY_CORRECT set the first operand ends the options. LONG is name:has_arg. */
#include <getopt.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
int main(int argc, char **argv) {
  static struct option longs[64];
  int count = 0, at = 2;
  for (; at < argc && strcmp(argv[at], "--"); at++, count++) {
    char *colon = strchr(argv[at], ':');
    *colon = 0;
    longs[count].name = argv[at]; longs[count].has_arg = atoi(colon + 1); longs[count].flag = 0; longs[count].val = 256 + count;
  }
  char *shorts = argv[1];
  argv[at] = "p";
  argv += at; argc -= at;
  opterr = 0;
  int c;
  while ((c = count ? getopt_long(argc, argv, shorts, longs, 0) : getopt(argc, argv, shorts)) != -1) {
    if (c == '?' || c == ':') return 2;
    if (c >= 256) printf("--%s\t%s\n", longs[c - 256].name, optarg ? optarg : "");
    else printf("-%c\t%s\n", c, optarg ? optarg : "");
  }
  for (; optind < argc; optind++) printf("\t%s\n", argv[optind]);
  return 0;
}

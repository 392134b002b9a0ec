/* A program that speaks FastCGI by libfcgi, and answers for the files of a site: the tide that one tells of, and what
 * came with the request. Its query says what it is to do besides. */
#include <fcgiapp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

int main(void) {
  FCGX_Request request;
  int count = 0;
  FCGX_Init();
  FCGX_InitRequest(&request, 0, 0);
  while (FCGX_Accept_r(&request) == 0) {
    const char* const query = FCGX_GetParam("QUERY_STRING", request.envp);
    const char* const path = FCGX_GetParam("SCRIPT_FILENAME", request.envp);
    char buffer[65536];
    long body = 0;
    ++count;
    if (strcmp(query, "crash") == 0) raise(SIGSEGV);
    if (strcmp(query, "exit") == 0) exit(4);
    if (strcmp(query, "hang") == 0) sleep(60);
    if (strcmp(query, "unread") != 0)
      for (int got; (got = FCGX_GetStr(buffer, sizeof buffer, request.in)) > 0;) body += got;
    if (strcmp(query, "aside") == 0) fprintf(stderr, "the gauge is stuck\n");
    if (strcmp(query, "error") == 0) FCGX_FPrintF(request.err, "no tide table\n");
    FCGX_FPrintF(request.out, "Content-Type: text/plain\r\n\r\n");
    FCGX_FPrintF(request.out, "%s %d %d %ld", path, (int)getpid(), count, body);
    if (strcmp(query, "half") == 0) {
      FCGX_FFlush(request.out);
      raise(SIGKILL);
    }
    if (strcmp(query, "status") == 0) FCGX_SetExitStatus(7, request.out);
    if (strcmp(query, "closes") == 0) request.keepConnection = 0;
    const int is_last = strcmp(query, "last") == 0;
    FCGX_Finish_r(&request);
    if (is_last) { /* What is sent meanwhile is read by nobody. */
      usleep(20000);
      break;
    }
  }
  return 0;
}

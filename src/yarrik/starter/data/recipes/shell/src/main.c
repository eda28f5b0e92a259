/* A small shell: commands with words, quotes, < > >>, pipes, ; and &&. Reads lines from a script, from -c, or from a
   terminal, where it shows the host's name. */
#include "shell.h"
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static int last_code;

/* Takes the redirections out of a command's words and puts them into effect. */
static int redirect(char **words, const char *is_operator, int count)
{
    int kept = 0;

    for (int i = 0; i < count; i++) {
        int flags, number, file;

        if (!is_operator[i]) {
            words[kept++] = words[i];
            continue;
        }
        number = words[i][0] == '<' ? 0 : 1;
        flags = number == 0 ? O_RDONLY : O_WRONLY | O_CREAT | (words[i][1] == '>' ? O_APPEND : O_TRUNC);
        if (i + 1 == count || is_operator[i + 1]) {
            fprintf(stderr, "sh: a file's name must follow %s\n", words[i]);
            return -1;
        }
        file = open(words[++i], flags, 0666);
        if (file < 0) {
            fprintf(stderr, "sh: %s: %s\n", words[i], strerror(errno));
            return -1;
        }
        dup2(file, number);
        close(file);
    }
    words[kept] = NULL;
    return kept;
}

static int run_command(char **words, const char *is_operator, int count, int may_stay)
{
    int plain = 1, code;
    pid_t pid;

    for (int i = 0; i < count; i++)
        plain = plain && !is_operator[i];
    if (plain && may_stay) {
        char *own[MAX_WORDS + 1];

        memcpy(own, words, count * sizeof *words);
        own[count] = NULL;
        code = run_own(own);
        if (code >= 0)
            return code;
    }
    fflush(stdout);
    pid = fork();
    if (pid == 0) {
        char *own[MAX_WORDS + 1];

        signal(SIGINT, SIG_DFL);
        memcpy(own, words, count * sizeof *words);
        if (redirect(own, is_operator, count) <= 0)
            _exit(2);
        code = run_own(own);
        if (code >= 0)
            exit(code);
        execvp(own[0], own);
        fprintf(stderr, "sh: %s: %s (try `help`)\n", own[0], strerror(errno));
        _exit(127);
    }
    if (waitpid(pid, &code, 0) < 0)
        return 126;
    return WIFEXITED(code) ? WEXITSTATUS(code) : 128 + WTERMSIG(code);
}

/* Runs commands joined by | ; all but the last in processes of their own. */
static int run_pipeline(char **words, const char *is_operator, int count)
{
    int input = dup(0), begin = 0, code = 0;
    pid_t waiting[MAX_WORDS];
    int started = 0;

    for (int i = 0; i <= count; i++) {
        int ends[2], last = i == count;

        if (!last && !(is_operator[i] && words[i][0] == '|'))
            continue;
        if (last && begin == 0) {
            code = run_command(words, is_operator, count, 1);
            break;
        }
        if (!last && pipe(ends) != 0)
            break;
        waiting[started] = fork();
        if (waiting[started] == 0) {
            dup2(input, 0);
            if (!last) {
                dup2(ends[1], 1);
                close(ends[0]);
                close(ends[1]);
            }
            exit(run_command(words + begin, is_operator + begin, i - begin, 0));
        }
        started++;
        close(input);
        input = last ? dup(0) : ends[0];
        if (!last)
            close(ends[1]);
        begin = i + 1;
    }
    close(input);
    for (int i = 0; i < started; i++) {
        if (waitpid(waiting[i], &code, 0) >= 0 && i == started - 1)
            code = WIFEXITED(code) ? WEXITSTATUS(code) : 128 + WTERMSIG(code);
    }
    return code;
}

static int run_line(const char *line)
{
    char buffer[4096], is_operator[MAX_WORDS];
    char *words[MAX_WORDS + 1];
    int count = cut_words(line, buffer, sizeof buffer, words, is_operator), begin = 0, skip = 0;

    if (count < 0) {
        fprintf(stderr, "sh: a quote is not closed\n");
        return 2;
    }
    for (int i = 0; i <= count; i++) {
        int both = i < count && is_operator[i] && strcmp(words[i], "&&") == 0;
        int then = i < count && is_operator[i] && strcmp(words[i], ";") == 0;

        if (i < count && !both && !then)
            continue;
        if (i > begin && !skip)
            last_code = run_pipeline(words + begin, is_operator + begin, i - begin);
        skip = both && (skip || last_code != 0);
        begin = i + 1;
    }
    return last_code;
}

int main(int count, char **arguments)
{
    char line[4096], host[65] = "board";
    FILE *input = stdin;
    int prompt;

    if (count > 2 && strcmp(arguments[1], "-c") == 0)
        return run_line(arguments[2]);
    if (count > 1) {
        input = fopen(arguments[1], "re");
        if (!input) {
            perror(arguments[1]);
            return 127;
        }
    }
    prompt = input == stdin && isatty(0);
    if (prompt)
        signal(SIGINT, SIG_IGN);
    gethostname(host, sizeof host - 1);
    for (;;) {
        if (prompt) {
            printf("%s# ", host);
            fflush(stdout);
        }
        if (!fgets(line, sizeof line, input))
            break;
        run_line(line);
    }
    return last_code;
}

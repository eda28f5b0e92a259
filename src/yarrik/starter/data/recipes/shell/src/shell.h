/* What the shell's parts know of each other. */
#ifndef SHELL_H
#define SHELL_H

#define MAX_WORDS 64

/* Cuts a line into words, with 'single' and "double" quotes and \ before any character. Operators (; && | > >> <) are
   words of their own, marked in is_operator. Returns their number, or -1 when a quote is not closed. */
int cut_words(const char *line, char *buffer, int size, char **words, char *is_operator);

/* Runs a command of the shell's own. Returns its exit code, or -1 when there is none of that name. */
int run_own(char **words);

#endif

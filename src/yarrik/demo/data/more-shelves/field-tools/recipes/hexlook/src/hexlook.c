/* Bytes of standard input, sixteen a row. */
#include <stdio.h>

int main(void)
{
    int byte;
    long at = 0;

    while ((byte = getchar()) != EOF) {
        if (at % 16 == 0)
            printf("%s%06lx ", at ? "\n" : "", at);
        printf(" %02x", byte);
        at++;
    }
    if (at)
        putchar('\n');
    return 0;
}

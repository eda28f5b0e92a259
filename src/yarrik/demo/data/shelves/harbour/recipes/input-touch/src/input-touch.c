/* Turns places that the panel was touched at into words: the left half draws anew, the right half goes on. */
#include <stdio.h>

int main(void)
{
    int x, y;

    while (scanf("%d %d", &x, &y) == 2)
        puts(x < 160 ? "redraw" : "next");
    return 0;
}

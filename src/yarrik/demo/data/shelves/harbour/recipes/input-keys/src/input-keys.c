/* Turns presses of the panel's two keys into words. */
#include <stdio.h>

int main(void)
{
    int key;

    while ((key = getchar()) != EOF)
        if (key == '1' || key == '2')
            puts(key == '1' ? "next" : "redraw");
    return 0;
}

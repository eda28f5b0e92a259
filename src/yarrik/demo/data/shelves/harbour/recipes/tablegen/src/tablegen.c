/* tablegen FILE: lines of "name speed amplitude phase" become a C table on standard output. */
#include <stdio.h>
#include <string.h>

int main(int count, char **arguments)
{
    char line[256], name[16];
    double speed, amplitude, phase;
    int rows = 0, number = 0;
    FILE *file = count == 2 ? fopen(arguments[1], "r") : NULL;

    if (!file) {
        fprintf(stderr, "usage: tablegen FILE\n");
        return 2;
    }
    puts("/* Made by tablegen. */");
    puts("static const struct { const char *name; double speed, amplitude, phase; } constituents[] = {");
    while (fgets(line, sizeof line, file)) {
        number++;
        if (line[0] == '#' || line[strspn(line, " \t\n")] == 0)
            continue;
        if (sscanf(line, "%15s %lf %lf %lf", name, &speed, &amplitude, &phase) != 4) {
            fprintf(stderr, "%s:%d: a name and three numbers belong on each line\n", arguments[1], number);
            return 1;
        }
        printf("    { \"%s\", %.6f, %.4f, %.2f },\n", name, speed, amplitude, phase);
        rows++;
    }
    fclose(file);
    printf("};\n#define CONSTITUENTS %d\n", rows);
    return rows ? 0 : 1;
}

/* What the parts of init have in common. */
#ifndef INIT_H
#define INIT_H

/* Milliseconds of a clock that only runs forwards. */
long long now(void);

/* `value` of a line `key = value`, without blanks around it and without the line's end; NULL for another key. */
char *value_of(char *line, const char *key);

/* Makes a folder with all that lead to it. Returns 0, or -1 with errno. */
int make_path(const char *path, unsigned mode);

/* Kernel parameters of /etc/sysctl.d, folders of /etc/folders, the host name. */
void apply_settings(void);

/* Variables of /etc/environment are set for init, and so for all that it starts. */
void read_environment(void);

/* The variables in a file of lines NAME=TEXT or NAME="TEXT" are set, if there is one. */
void read_variables(const char *path);

/* Filesystems and swap of /etc/fstab. */
void mount_all(void);

/* Modules of /etc/modules. */
void load_modules(void);

/* Network interfaces of /etc/network.d. Returns whether something failed. */
int set_up_network(void);

/* Services of /etc/services. */
void read_services(void);
long long step_services(void);
int watch_services(void);
int service_ended(int pid, int status);
void stop_services(void);

#endif

/* Network interfaces of /etc/network.d, one a file, in the order of their names, by the kernel's own protocol (rtnetlink(7)).

   A file has lines KEY = VALUE: name, kind = wired|wireless|vlan|bridge, of and number (of a VLAN), port (of a bridge, several),
   address = ADDRESS/BITS (several), gateway = ADDRESS, mtu = NUMBER, optional = yes (nobody waits for it). */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <dirent.h>
#include <errno.h>
#include <linux/if_link.h>
#include <linux/rtnetlink.h>
#include <net/if.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "init.h"

#define MOST 16
#define PATIENCE 100 /* tenths of a second that a device may take to come */

struct interface {
    char name[IFNAMSIZ], kind[16], of[IFNAMSIZ];
    char *addresses[MOST], *gateways[MOST], *ports[MOST];
    int address_count, gateway_count, port_count, number, mtu, optional;
};

struct request {
    struct nlmsghdr head;
    union {
        struct ifinfomsg link;
        struct ifaddrmsg address;
        struct rtmsg route;
    } body;
    char rest[512];
};

static void *grow(struct request *request, int type, const void *data, size_t length)
{
    struct rtattr *attribute = (struct rtattr *)((char *)request + NLMSG_ALIGN(request->head.nlmsg_len));

    attribute->rta_type = (unsigned short)type;
    attribute->rta_len = (unsigned short)RTA_LENGTH(length);
    if (length)
        memcpy(RTA_DATA(attribute), data, length);
    request->head.nlmsg_len = NLMSG_ALIGN(request->head.nlmsg_len) + RTA_ALIGN(attribute->rta_len);
    return attribute;
}

static void begin(struct request *request, int type, int flags, size_t body)
{
    memset(request, 0, sizeof *request);
    request->head.nlmsg_len = NLMSG_LENGTH(body);
    request->head.nlmsg_type = (unsigned short)type;
    request->head.nlmsg_flags = (unsigned short)(NLM_F_REQUEST | NLM_F_ACK | flags);
}

/* Sends a request and waits for the kernel's answer. Returns 0, or a number of errno. */
static int ask(const struct request *request)
{
    struct {
        struct nlmsghdr head;
        struct nlmsgerr error;
        char rest[1024];
    } answer;
    struct sockaddr_nl kernel = { .nl_family = AF_NETLINK };
    int one = socket(AF_NETLINK, SOCK_RAW | SOCK_CLOEXEC, NETLINK_ROUTE), error = EIO;

    if (one < 0)
        return errno;
    if (sendto(one, request, request->head.nlmsg_len, 0, (struct sockaddr *)&kernel, sizeof kernel) < 0)
        error = errno;
    else if (recv(one, &answer, sizeof answer, 0) >= (ssize_t)NLMSG_LENGTH(sizeof answer.error) &&
             answer.head.nlmsg_type == NLMSG_ERROR)
        error = -answer.error.error;
    close(one);
    return error;
}

static int told(const char *name, const char *what, int error)
{
    if (error)
        fprintf(stderr, "init: network: %s: %s: %s\n", name, what, strerror(error));
    return error;
}

static int make_device(const struct interface *one)
{
    struct request request;
    struct rtattr *info, *data;
    unsigned short number = (unsigned short)one->number;
    unsigned below = one->of[0] ? if_nametoindex(one->of) : 0;

    begin(&request, RTM_NEWLINK, NLM_F_CREATE | NLM_F_EXCL, sizeof request.body.link);
    grow(&request, IFLA_IFNAME, one->name, strlen(one->name) + 1);
    if (below)
        grow(&request, IFLA_LINK, &below, sizeof below);
    info = grow(&request, IFLA_LINKINFO, NULL, 0);
    grow(&request, IFLA_INFO_KIND, one->kind, strlen(one->kind));
    if (strcmp(one->kind, "vlan") == 0) {
        data = grow(&request, IFLA_INFO_DATA, NULL, 0);
        grow(&request, IFLA_VLAN_ID, &number, sizeof number);
        data->rta_len = (unsigned short)((char *)&request + request.head.nlmsg_len - (char *)data);
    }
    info->rta_len = (unsigned short)((char *)&request + request.head.nlmsg_len - (char *)info);
    return told(one->name, "cannot be made", ask(&request));
}

/* Turns a device on, with its size of packets and the bridge that it belongs to, where these are given. */
static int turn_on(const char *name, int mtu, unsigned bridge)
{
    struct request request;

    begin(&request, RTM_NEWLINK, 0, sizeof request.body.link);
    request.body.link.ifi_index = (int)if_nametoindex(name);
    request.body.link.ifi_flags = request.body.link.ifi_change = IFF_UP;
    if (mtu)
        grow(&request, IFLA_MTU, &mtu, sizeof mtu);
    if (bridge)
        grow(&request, IFLA_MASTER, &bridge, sizeof bridge);
    return told(name, "cannot be turned on", ask(&request));
}

static int parse(const char *text, unsigned char *bytes)
{
    return inet_pton(AF_INET, text, bytes) == 1 ? AF_INET : inet_pton(AF_INET6, text, bytes) == 1 ? AF_INET6 : 0;
}

static int add_address(const char *name, const char *text)
{
    struct request request;
    unsigned char bytes[16];
    char address[64];
    int bits = -1, family;

    if (sscanf(text, "%63[^/]/%d", address, &bits) != 2 || !(family = parse(address, bytes)))
        return told(name, text, EINVAL);
    begin(&request, RTM_NEWADDR, NLM_F_CREATE | NLM_F_REPLACE, sizeof request.body.address);
    request.body.address.ifa_family = (unsigned char)family;
    request.body.address.ifa_prefixlen = (unsigned char)bits;
    request.body.address.ifa_index = if_nametoindex(name);
    grow(&request, IFA_LOCAL, bytes, family == AF_INET ? 4 : 16);
    grow(&request, IFA_ADDRESS, bytes, family == AF_INET ? 4 : 16);
    return told(name, text, ask(&request));
}

static int add_gateway(const char *name, const char *text)
{
    struct request request;
    unsigned char bytes[16];
    unsigned index = if_nametoindex(name);
    int family = parse(text, bytes);

    if (!family)
        return told(name, text, EINVAL);
    begin(&request, RTM_NEWROUTE, NLM_F_CREATE | NLM_F_REPLACE, sizeof request.body.route);
    request.body.route.rtm_family = (unsigned char)family;
    request.body.route.rtm_table = RT_TABLE_MAIN;
    request.body.route.rtm_protocol = RTPROT_STATIC;
    request.body.route.rtm_type = RTN_UNICAST;
    grow(&request, RTA_GATEWAY, bytes, family == AF_INET ? 4 : 16);
    grow(&request, RTA_OIF, &index, sizeof index);
    return told(name, text, ask(&request));
}

static void read_interface(const char *path, struct interface *one)
{
    char line[300], *value;
    FILE *file = fopen(path, "re");

    memset(one, 0, sizeof *one);
    while (file && fgets(line, sizeof line, file)) {
        if ((value = value_of(line, "name")))
            snprintf(one->name, sizeof one->name, "%s", value);
        else if ((value = value_of(line, "kind")))
            snprintf(one->kind, sizeof one->kind, "%s", value);
        else if ((value = value_of(line, "of")))
            snprintf(one->of, sizeof one->of, "%s", value);
        else if ((value = value_of(line, "number")))
            one->number = atoi(value);
        else if ((value = value_of(line, "mtu")))
            one->mtu = atoi(value);
        else if ((value = value_of(line, "optional")))
            one->optional = strcmp(value, "yes") == 0;
        else if ((value = value_of(line, "address")) && one->address_count < MOST)
            one->addresses[one->address_count++] = strdup(value);
        else if ((value = value_of(line, "gateway")) && one->gateway_count < MOST)
            one->gateways[one->gateway_count++] = strdup(value);
        else if ((value = value_of(line, "port")) && one->port_count < MOST)
            one->ports[one->port_count++] = strdup(value);
    }
    if (file)
        fclose(file);
}

static int set_up(const struct interface *one)
{
    int failed = 0;

    if (strcmp(one->kind, "vlan") == 0 || strcmp(one->kind, "bridge") == 0)
        failed |= make_device(one);
    for (int i = 0; i < PATIENCE && !failed && !if_nametoindex(one->name) && !one->optional; i++)
        usleep(100000);
    if (!if_nametoindex(one->name)) {
        fprintf(stderr, "init: network: there is no %s\n", one->name);
        return !one->optional;
    }
    for (int i = 0; i < one->port_count; i++)
        failed |= turn_on(one->ports[i], 0, if_nametoindex(one->name));
    failed |= turn_on(one->name, one->mtu, 0);
    for (int i = 0; i < one->address_count; i++)
        failed |= add_address(one->name, one->addresses[i]);
    for (int i = 0; i < one->gateway_count; i++)
        failed |= add_gateway(one->name, one->gateways[i]);
    return failed;
}

int set_up_network(void)
{
    struct dirent **found = NULL;
    int failed = turn_on("lo", 0, 0), count = scandir("/etc/network.d", &found, NULL, alphasort);

    for (int i = 0; i < count; i++) {
        struct interface one;
        char path[400];

        snprintf(path, sizeof path, "/etc/network.d/%s", found[i]->d_name);
        if (found[i]->d_name[0] == '.')
            continue;
        read_interface(path, &one);
        failed |= set_up(&one);
    }
    return failed != 0;
}

/* The arm64 kernel image header (64 bytes), as Documentation/arm64/booting.rst describes it, and the way into C. */
        .section .head, "ax"
        .global _start
_start:
        b       start                   /* code0 */
        .long   0                       /* code1 */
        .quad   0                       /* text_offset */
        .quad   _image_size             /* image_size */
        .quad   0xa                     /* flags: little endian, 4 KiB pages, anywhere in memory */
        .quad   0, 0, 0                 /* res2, res3, res4 */
        .ascii  "ARM\x64"               /* magic */
        .long   0                       /* res5 */

start:
        msr     daifset, #0xf
        adrp    x1, stack_end
        add     x1, x1, :lo12:stack_end
        mov     sp, x1
        bl      stand_in                /* x0 holds the device tree's address */
1:      wfi
        b       1b

        .global psci_off
psci_off:                               /* x0: 0 for hvc, 1 for smc */
        mov     x2, x0
        movz    x0, #0x8400, lsl #16    /* SYSTEM_OFF: 0x84000008 */
        movk    x0, #0x0008
        cbnz    x2, 2f
        hvc     #0
        ret
2:      smc     #0
        ret

        .section .bss
        .balign 16
stack:  .space  8192
stack_end:

/* An x86 kernel image as Documentation/x86/boot.rst describes it: the real-mode header at 0x1f1 and its three ways in
   (16, 32 and 64 bits). Each says the stand-in's name and command line on the first serial port, and powers off. */

        .macro  put_al port=0x3f8       /* al to the serial port, once it is ready */
        mov     %al, %ah
        mov     $\port + 5, %dx
1:      in      %dx, %al
        test    $0x20, %al
        jz      1b
        mov     %ah, %al
        mov     $\port, %dx
        out     %al, %dx
        .endm

        .macro  power_off               /* sleep state 5 through the emulated power management's register */
        mov     $0x2000, %ax
        mov     $0x604, %dx
        out     %ax, %dx
9:      hlt
        jmp     9b
        .endm

        .section .setup, "ax"
        .code16
image:
        .org    0x1f1
        .byte   1                       /* setup_sects */
        .word   1                       /* root_flags: read-only */
        .long   protected_paragraphs    /* syssize, in 16 bytes */
        .word   0                       /* ram_size */
        .word   0xffff                  /* vid_mode */
        .word   0                       /* root_dev */
        .word   0xaa55                  /* boot_flag */
        .byte   0xeb, real_start - header    /* jump over the header */
header:
        .ascii  "HdrS"
        .word   0x020c                  /* protocol 2.12 */
        .long   0                       /* realmode_swtch */
        .word   0                       /* start_sys_seg */
        .word   name - image - 0x200    /* kernel_version */
        .byte   0                       /* type_of_loader */
        .byte   1                       /* loadflags: LOADED_HIGH */
        .word   0                       /* setup_move_size */
        .long   0x100000                /* code32_start */
        .long   0, 0                    /* ramdisk_image, ramdisk_size */
        .long   0                       /* bootsect_kludge */
        .word   0                       /* heap_end_ptr */
        .byte   0, 0                    /* ext_loader_ver, ext_loader_type */
        .long   0                       /* cmd_line_ptr, at 0x228 */
        .long   0x7fffffff              /* initrd_addr_max */
        .long   0x200000                /* kernel_alignment */
        .byte   1                       /* relocatable_kernel */
        .byte   21                      /* min_alignment: 2 MiB */
        .word   1                       /* xloadflags: XLF_KERNEL_64 */
        .long   2047                    /* cmdline_size */
        .long   0                       /* hardware_subarch */
        .quad   0                       /* hardware_subarch_data */
        .long   0, 0                    /* payload_offset, payload_length */
        .quad   0                       /* setup_data */
        .quad   0x100000                /* pref_address */
        .long   0x10000                 /* init_size */
        .long   0                       /* handover_offset */

real_start:                             /* ds is the segment that this image's first byte was loaded to, cs 0x20 more */
        cli
        cld
        mov     $name - image, %si
        call    real_say
        mov     0x228, %eax             /* linear address of the command line */
        mov     %eax, %ebx
        shr     $4, %eax
        and     $15, %ebx
        mov     %bx, %si
        push    %ds
        mov     %ax, %ds
        call    real_say
        pop     %ds
        mov     $bye - image, %si
        call    real_say
        power_off
real_say:
        lodsb
        test    %al, %al
        jz      2f
        put_al
        jmp     real_say
2:      ret

name:   .asciz  "stand-in kernel 1.0\r\ncommand line: "
bye:    .asciz  "\r\nstand-in: powering off\r\n"
        .org    0x400

        .section .protected, "ax"
        .code32
protected:                              /* esi holds the address of the boot parameters */
        cli
        cld
        mov     %esi, %edi
        mov     $0x70000, %esp
        call    3f
3:      pop     %ebp
        lea     pname - 3b(%ebp), %esi
        call    protected_say
        mov     0x228(%edi), %esi
        call    protected_say
        lea     pbye - 3b(%ebp), %esi
        call    protected_say
        power_off
protected_say:
        lodsb
        test    %al, %al
        jz      4f
        put_al
        jmp     protected_say
4:      ret
pname:  .asciz  "stand-in kernel 1.0\r\ncommand line: "
pbye:   .asciz  "\r\nstand-in: powering off\r\n"

        .org    0x200                   /* the 64-bit way in lies 0x200 after the 32-bit one */
        .code64
        cli
        cld
        mov     %rsi, %rdi
        mov     $0x70000, %esp
        lea     pname(%rip), %rsi
        call    long_say
        mov     0x228(%rdi), %esi
        call    long_say
        lea     pbye(%rip), %rsi
        call    long_say
        power_off
long_say:
        lodsb
        test    %al, %al
        jz      5f
        put_al
        jmp     long_say
5:      ret

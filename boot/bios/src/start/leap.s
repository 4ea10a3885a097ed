# The last step, copied to 0x8000, where nothing is needed any more: what is started may lie over all of ours.

    .set LEAP, 0x8000
    .set GIVEN, 0x5400          # from, to, length, entry, boot_params

    .section .rodata.leap, "a"
    .globl leap
    .globl leap_end
    .globl leap_sector
    .code32
leap:
    cld
    movl GIVEN, %esi
    movl GIVEN + 4, %edi
    movl GIVEN + 8, %ecx
    rep movsb
    lgdtl LEAP + (leap_register - leap)
    ljmp $0x10, $(LEAP + (leap_wide - leap))
leap_wide:
    movw $0x18, %ax
    movw %ax, %ds
    movw %ax, %es
    movw %ax, %fs
    movw %ax, %gs
    movw %ax, %ss
    movl GIVEN + 12, %eax
    movl GIVEN + 16, %esi
    xorl %ebp, %ebp
    xorl %edi, %edi
    xorl %ebx, %ebx
    jmp *%eax

    .balign 8
leap_table:
    .quad 0
    .quad 0
    .quad 0x00cf9b000000ffff
    .quad 0x00cf93000000ffff
leap_register:
    .word leap_register - leap_table - 1
    .long LEAP + (leap_table - leap)

    # In real mode, called like an interrupt: a boot sector, as firmware starts one.
    .code16
leap_sector:
    movw $0x7c00, %sp
    sti
    ljmp $0, $0x7c00
    .code32
leap_end:

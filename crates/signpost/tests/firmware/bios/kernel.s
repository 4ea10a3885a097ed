    .section .rodata.bios_kernel, "a"
    .globl kernel_start, kernel_last
    .code32
kernel_start:
    movl $0x80000, %esp
    call kernel_here
kernel_here:
    popl %ebp
    leal (kernel_name - kernel_here)(%ebp), %edi
    call kernel_say
    movl 0x228(%esi), %edi
    call kernel_say
    leal (kernel_initrd - kernel_here)(%ebp), %edi
    call kernel_say
    movl 0x21c(%esi), %ebx
    call kernel_number
    movb $0x2f, %al
    call kernel_put
    movl 0x218(%esi), %edi
    movl 0x21c(%esi), %ecx
    xorl %ebx, %ebx
    xorl %eax, %eax
    jecxz kernel_summed
kernel_sum:
    movb (%edi), %al
    addl %eax, %ebx
    incl %edi
    loop kernel_sum
kernel_summed:
    call kernel_number
    leal (kernel_end - kernel_here)(%ebp), %edi
    call kernel_say
kernel_halt:
    cli
    hlt
    jmp kernel_halt
kernel_number:
    movl $8, %ecx
kernel_digit:
    roll $4, %ebx
    movb %bl, %al
    andb $15, %al
    cmpb $10, %al
    sbbb $0x69, %al
    das
    call kernel_put
    loop kernel_digit
    ret
kernel_say:
    movb (%edi), %al
    testb %al, %al
    jz kernel_said
    call kernel_put
    incl %edi
    jmp kernel_say
kernel_put:
    pushl %eax
    movl $0x3fd, %edx
kernel_busy:
    inb %dx, %al
    testb $0x20, %al
    jz kernel_busy
    popl %eax
    movl $0x3f8, %edx
    outb %al, %dx
kernel_said:
    ret
kernel_name:
    .asciz "KERNEL "
kernel_initrd:
    .asciz ", initrd "
kernel_end:
    .asciz "\r\n"
kernel_last:
    .code64
    .text

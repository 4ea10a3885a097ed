# From 32 bits to the firmware and back. What runs lies at 0x1000, what it works on in a page of its own at 0x5000: a processor that is
# emulated would translate code anew each time that something beside it is written.

    .set CODE, 0x1000
    .set REGISTERS, 0x5000      # %edi %esi %ebp - %ebx %edx %ecx %eax, %es, %ds, flags
    .set SAVED_STACK, 0x5030
    .set VECTOR, 0x5034         # what is called
    .set TABLE_REGISTER, 0x5040
    .set VECTORS_REGISTER, 0x5048

    .section .entry, "ax"
    .code32
    .globl start
start:
    cld
    movl $stack_top, %esp
    movl $bss_start, %edi
    movl $bss_end, %ecx
    subl %edi, %ecx
    xorl %eax, %eax
    rep stosb
    pushl %esi
    pushl %ebx
    call run
1:  hlt
    jmp 1b

    .section .rodata.thunk, "a"
    .globl thunk
    .globl thunk_end
    .globl thunk_idle
thunk:
    pushal
    movl %esp, SAVED_STACK
    lidt VECTORS_REGISTER
    ljmp $0x18, $(narrow - thunk + CODE)
    .code16
narrow:
    movw $0x20, %ax
    movw %ax, %ds
    movw %ax, %es
    movw %ax, %ss
    movl %cr0, %eax
    andb $0xfe, %al
    movl %eax, %cr0
    ljmp $0, $(real - thunk + CODE)
real:
    xorw %ax, %ax
    movw %ax, %ss
    movw %ax, %fs
    movw %ax, %gs
    movl $REGISTERS, %esp
    popal
    popw %es
    popw %ds
    movl $0x7000, %esp
    sti
    pushfw
    cli
    lcallw *%ss:VECTOR
    cli
    movl $(REGISTERS + 38), %esp
    pushfw
    pushw %ds
    pushw %es
    pushal
    xorw %ax, %ax
    movw %ax, %ds
    lgdtl TABLE_REGISTER
    movl %cr0, %eax
    orb $1, %al
    movl %eax, %cr0
    ljmp $8, $(wide - thunk + CODE)
    .code32
wide:
    movw $0x10, %ax
    movw %ax, %ds
    movw %ax, %es
    movw %ax, %fs
    movw %ax, %gs
    movw %ax, %ss
    movl SAVED_STACK, %esp
    popal
    ret

    # Called like an interrupt: waits for the next one.
    .code16
thunk_idle:
    sti
    hlt
    iretw
    .code32
thunk_end:

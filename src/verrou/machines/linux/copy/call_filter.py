"""System calls that an isolated program is denied: seccomp(2).

Namespaces do not separate what these reach: the kernel has keys by user ID for the whole computer (keyrings(7)), and
the others inspect the kernel or load into it. They are denied with EPERM, as by a computer that lacks them."""

import ctypes
import errno
import os
from collections.abc import Mapping, Sequence

PR_SET_SECCOMP, SECCOMP_MODE_FILTER = 22, 2
LOAD, JUMP_IF_EQUAL, JUMP_IF_AT_LEAST, RETURN = 0x20, 0x15, 0x35, 0x06
NUMBER_AT, ARCHITECTURE_AT = 0, 4
"""Where seccomp_data has the call's number and the processor's kind."""
ALLOW, REFUSE = 0x7FFF0000, 0x00050000 | errno.EPERM
X32 = 0x40000000
"""A second set of numbers on x86_64; nothing of a system like these needs it."""
REFUSED: Mapping[int, Sequence[int]] = {
    # add_key, request_key, keyctl, perf_event_open, bpf, userfaultfd, io_uring_setup, kexec_load, kexec_file_load
    0xC000003E: (248, 249, 250, 298, 321, 323, 425, 246, 320),  # x86_64
    0x40000003: (286, 287, 288, 336, 357, 374, 425, 283),  # i386
    0xC00000B7: (217, 218, 219, 241, 280, 282, 425, 104, 294),  # aarch64
    0x40000028: (309, 310, 311, 364, 386, 388, 425, 347, 401),  # arm
    0xC00000F3: (217, 218, 219, 241, 280, 282, 425, 104, 294),  # riscv64
}
"""By the kind of processor, as audit(3) numbers them."""
KNOWN_MACHINES = ("x86_64", "i686", "i586", "i386", "aarch64", "armv7l", "riscv64")


class _Instruction(ctypes.Structure):
    _fields_ = (("code", ctypes.c_uint16), ("yes", ctypes.c_uint8), ("no", ctypes.c_uint8), ("k", ctypes.c_uint32))


class _Program(ctypes.Structure):
    _fields_ = (("length", ctypes.c_uint16), ("instructions", ctypes.POINTER(_Instruction)))


def _instructions() -> list[tuple[int, int, int, int]]:
    program: list[tuple[int, int, int, int]] = []
    for architecture, numbers in REFUSED.items():
        block = [(LOAD, 0, 0, NUMBER_AT), (JUMP_IF_AT_LEAST, len(numbers) + 1, 0, X32)]
        for position, number in enumerate(numbers):
            block.append((JUMP_IF_EQUAL, len(numbers) - position, 0, number))
        block += [(RETURN, 0, 0, ALLOW), (RETURN, 0, 0, REFUSE)]
        program += [(LOAD, 0, 0, ARCHITECTURE_AT), (JUMP_IF_EQUAL, 0, len(block), architecture), *block]
    return [*program, (RETURN, 0, 0, REFUSE)]


def _program() -> _Program:
    text = _instructions()
    return _Program(len(text), (_Instruction * len(text))(*(_Instruction(*each) for each in text)))


_LIBC = ctypes.CDLL(None, use_errno=True)
_PROGRAM = _program()
"""Made once, and not in each of the many processes that are denied the calls."""


def refuse_calls() -> None:
    """Deny the calls to this process and all that it starts, for good; do nothing on an unknown kind of processor.

    It needs CAP_SYS_ADMIN, so it comes before that is dropped. Raises: OSError: the kernel does not allow it."""
    if os.uname().machine not in KNOWN_MACHINES:
        return
    if _LIBC.prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, ctypes.byref(_PROGRAM), 0, 0) != 0:
        number = ctypes.get_errno()
        if number != errno.EINVAL:  # a kernel without such filters
            raise OSError(number, os.strerror(number), "the filter of system calls")

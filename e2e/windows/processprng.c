/* ProcessPrng is the one function of the one system library that the client needs and an older wine lacks: random bytes. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);

BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T size)
{
	while (size > 0) {
		ULONG some = size > 1 << 20 ? 1 << 20 : (ULONG)size;
		if (!SystemFunction036(data, some))
			return FALSE;
		data += some;
		size -= some;
	}
	return TRUE;
}

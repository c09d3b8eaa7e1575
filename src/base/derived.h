/* From a base struct to the struct that embeds it as its first member. */
#pragma once

#include <stddef.h>

/* The Type whose first member `member` is at `pointer`. It does not compile when `member` is not
 * the first, or when `pointer` points to something else. The caller knows that the object is a
 * Type: its functions are in that type's table. A plain cast would be called unsound on processors
 * that align 64-bit fields (armhf), since the compiler cannot know this. */
#define WDR_DERIVED(pointer, Type, member)                                                         \
	((Type *)(void *)(sizeof(char[offsetof(Type, member) == 0 ? 1 : -1])                       \
				  ? (pointer)                                                      \
				  : &((Type *)NULL)->member))

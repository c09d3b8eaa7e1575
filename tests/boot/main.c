#include "suite.h"

Suite *suite_identifier(void);
Suite *suite_bootorder(void);
Suite *suite_corpus(void);
Suite *suite_device_tree(void);
Suite *suite_edit(void);
Suite *suite_efi_boot(void);
Suite *suite_efi_program(void);
Suite *suite_extlinux(void);
Suite *suite_fstab_lines(void);
Suite *suite_image(void);
Suite *suite_initramfs(void);
Suite *suite_places(void);
Suite *suite_program(void);
Suite *suite_segment(void);

SUITE_MAIN(suite_identifier(), suite_bootorder(), suite_corpus(), suite_edit(), suite_fstab_lines(),
	suite_extlinux(), suite_image(), suite_places(), suite_initramfs(), suite_program(),
	suite_segment(), suite_device_tree(), suite_efi_program(), suite_efi_boot())

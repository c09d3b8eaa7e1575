# Help texts, manual pages and completions from docs/manual (its README.md tells how).
find_program(AWK NAMES mawk gawk awk REQUIRED)
set(MANUAL_FOLDER ${CMAKE_SOURCE_DIR}/docs/manual)
set(MANUAL_MAKER ${CMAKE_SOURCE_DIR}/cmake/manual.awk)
file(GLOB MANUAL_COMMANDS CONFIGURE_DEPENDS ${MANUAL_FOLDER}/*.txt)
list(REMOVE_ITEM MANUAL_COMMANDS ${MANUAL_FOLDER}/wanderitas.txt)
set(MANUAL_TEXTS ${MANUAL_FOLDER}/wanderitas.txt ${MANUAL_COMMANDS})
file(GLOB MANUAL_PARTS CONFIGURE_DEPENDS ${MANUAL_FOLDER}/*.inc)
string(TIMESTAMP MANUAL_DATE "%Y-%m-%d" UTC)
set(MANUAL_OUTPUTS)

function(make_from_manual OUTPUT)
	add_custom_command(OUTPUT ${OUTPUT}
		COMMAND ${AWK} -v version=${PROJECT_VERSION} -v date=${MANUAL_DATE} -v templates=${CMAKE_SOURCE_DIR}/cmake ${ARGN} -f ${MANUAL_MAKER}
			${MANUAL_TEXTS} > ${OUTPUT}
		DEPENDS ${MANUAL_MAKER} ${MANUAL_TEXTS} ${MANUAL_PARTS} ${CMAKE_SOURCE_DIR}/cmake/wanderitas.bash.in VERBATIM)
	set(MANUAL_OUTPUTS ${MANUAL_OUTPUTS} ${OUTPUT} PARENT_SCOPE)
endfunction()

file(MAKE_DIRECTORY ${CMAKE_BINARY_DIR}/manual)
make_from_manual(${CMAKE_BINARY_DIR}/manual/help.c -v want=help)
make_from_manual(${CMAKE_BINARY_DIR}/manual/wanderitas.bash -v want=bash)
make_from_manual(${CMAKE_BINARY_DIR}/manual/_wanderitas -v want=zsh)
make_from_manual(${CMAKE_BINARY_DIR}/manual/wanderitas.fish -v want=fish)
make_from_manual(${CMAKE_BINARY_DIR}/manual/wanderitas.1 -v want=man -v page=wanderitas)
set(MANUAL_PAGES ${CMAKE_BINARY_DIR}/manual/wanderitas.1)
foreach(text ${MANUAL_COMMANDS})
	get_filename_component(name ${text} NAME_WE)
	make_from_manual(${CMAKE_BINARY_DIR}/manual/wanderitas-${name}.1 -v want=man -v page=${name})
	list(APPEND MANUAL_PAGES ${CMAKE_BINARY_DIR}/manual/wanderitas-${name}.1)
endforeach()
add_custom_target(manual ALL DEPENDS ${MANUAL_OUTPUTS})

install(FILES ${CMAKE_BINARY_DIR}/manual/wanderitas.bash DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions
	RENAME wanderitas)
install(FILES ${CMAKE_BINARY_DIR}/manual/_wanderitas DESTINATION ${CMAKE_INSTALL_DATADIR}/zsh/vendor-completions)
install(FILES ${CMAKE_BINARY_DIR}/manual/wanderitas.fish DESTINATION ${CMAKE_INSTALL_DATADIR}/fish/vendor_completions.d)
install(FILES ${MANUAL_PAGES} DESTINATION ${CMAKE_INSTALL_MANDIR}/man1)
install(FILES ${CMAKE_SOURCE_DIR}/docs/wanderitas-places.5 DESTINATION ${CMAKE_INSTALL_MANDIR}/man5)

# What is installed, and the Debian packages made of it: the program, and the library to build on.
include(CMakePackageConfigHelpers)

install(TARGETS juneheath RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR} COMPONENT program)
install(DIRECTORY demo/ DESTINATION ${CMAKE_INSTALL_DATADIR}/juneheath/demo COMPONENT program)
install(DIRECTORY ${manual_folder}/ DESTINATION ${CMAKE_INSTALL_MANDIR}/man1 COMPONENT program
        FILES_MATCHING PATTERN "*.1")
install(FILES completions/juneheath.bash RENAME juneheath
        DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions COMPONENT program)
install(FILES completions/_juneheath
        DESTINATION ${CMAKE_INSTALL_DATADIR}/zsh/vendor-completions COMPONENT program)
install(FILES completions/juneheath.fish
        DESTINATION ${CMAKE_INSTALL_DATADIR}/fish/vendor_completions.d COMPONENT program)
# Off until somebody switches it on.
install(FILES packaging/juneheath-live.service DESTINATION lib/systemd/system COMPONENT program)
install(FILES README.md docs/commands.md docs/cloud.md docs/order.md docs/safety.md docs/schema/juneheath-1.schema.json
        DESTINATION ${CMAKE_INSTALL_DOCDIR} COMPONENT program)
install(FILES LICENSE RENAME copyright DESTINATION ${CMAKE_INSTALL_DOCDIR} COMPONENT program)

set(package_folder ${CMAKE_INSTALL_LIBDIR}/cmake/Juneheath)
install(TARGETS juneheath_core EXPORT JuneheathTargets
        ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT library)
install(DIRECTORY src/core DESTINATION ${CMAKE_INSTALL_INCLUDEDIR}/juneheath COMPONENT library
        FILES_MATCHING PATTERN "*.h")
install(EXPORT JuneheathTargets NAMESPACE Juneheath:: DESTINATION ${package_folder} COMPONENT library)
configure_package_config_file(packaging/JuneheathConfig.cmake.in
                              ${CMAKE_CURRENT_BINARY_DIR}/JuneheathConfig.cmake
                              INSTALL_DESTINATION ${package_folder})
write_basic_package_version_file(${CMAKE_CURRENT_BINARY_DIR}/JuneheathConfigVersion.cmake
                                 COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/JuneheathConfig.cmake
              ${CMAKE_CURRENT_BINARY_DIR}/JuneheathConfigVersion.cmake
        DESTINATION ${package_folder} COMPONENT library)
install(FILES LICENSE RENAME copyright
        DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/libjuneheath-dev COMPONENT library)
install(DIRECTORY examples DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/libjuneheath-dev COMPONENT library)

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_VENDOR "the Juneheath authors")
set(CPACK_PACKAGE_CONTACT "The Juneheath authors <juneheath@example.invalid>")
set(CPACK_PACKAGE_DESCRIPTION_SUMMARY "${PROJECT_DESCRIPTION}")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_COMPONENTS_ALL program library)
set(CPACK_DEB_COMPONENT_INSTALL ON)
set(CPACK_STRIP_FILES ON)
set(CPACK_INSTALL_DEFAULT_DIRECTORY_PERMISSIONS
    OWNER_READ OWNER_WRITE OWNER_EXECUTE GROUP_READ GROUP_EXECUTE WORLD_READ WORLD_EXECUTE)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PROGRAM_PACKAGE_NAME juneheath)
set(CPACK_DEBIAN_PROGRAM_PACKAGE_SECTION admin)
set(CPACK_DEBIAN_PROGRAM_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_PROGRAM_PACKAGE_RECOMMENDS "fonts-dejavu-core")
set(CPACK_DEBIAN_PROGRAM_PACKAGE_SUGGESTS "slurm-client")
set(CPACK_COMPONENT_PROGRAM_DESCRIPTION
    "The program.\n Surveys, grows, shrinks, compacts and audits virtual disk images and what is in them.")
set(CPACK_DEBIAN_LIBRARY_PACKAGE_NAME libjuneheath-dev)
set(CPACK_DEBIAN_LIBRARY_PACKAGE_SECTION libdevel)
set(CPACK_DEBIAN_LIBRARY_PACKAGE_DEPENDS
    "libboost-dev, libfmt-dev, nlohmann-json3-dev, zlib1g-dev, libzstd-dev, libisal-dev, libsodium-dev, libxxhash-dev, liblzo2-dev, libcairo2-dev, libtomlplusplus-dev, pkg-config")
set(CPACK_COMPONENT_LIBRARY_DESCRIPTION
    "The library it is made of.\n Headers, a static library, a CMake package and an example.")
include(CPack)

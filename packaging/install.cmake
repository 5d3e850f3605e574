# What is installed: the program, and the library to build on. The Debian packages are made by debian/.
include(CMakePackageConfigHelpers)

install(TARGETS juneheath RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR} COMPONENT program)
install(DIRECTORY demo/ DESTINATION ${CMAKE_INSTALL_DATADIR}/juneheath/demo COMPONENT program)
install(DIRECTORY docs/man/ DESTINATION ${CMAKE_INSTALL_MANDIR}/man1 COMPONENT program FILES_MATCHING PATTERN "*.1")
install(FILES completions/juneheath.bash RENAME juneheath
        DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions COMPONENT program)
install(FILES completions/_juneheath
        DESTINATION ${CMAKE_INSTALL_DATADIR}/zsh/vendor-completions COMPONENT program)
install(FILES completions/juneheath.fish
        DESTINATION ${CMAKE_INSTALL_DATADIR}/fish/vendor_completions.d COMPONENT program)
# Off until somebody switches it on.
install(FILES packaging/juneheath-live.service DESTINATION lib/systemd/system COMPONENT program)
install(FILES README.md docs/commands.md docs/cloud.md docs/json.md docs/order.md docs/safety.md
              docs/schema/juneheath-1.schema.json
        DESTINATION ${CMAKE_INSTALL_DOCDIR} COMPONENT program)

if(JUNEHEATH_STATIC)
  return()
endif()
set(package_folder ${CMAKE_INSTALL_LIBDIR}/cmake/Juneheath)
install(TARGETS juneheath_shared EXPORT JuneheathTargets
        LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT library NAMELINK_COMPONENT development)
install(TARGETS juneheath_core EXPORT JuneheathStaticTargets
        ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT development)
install(DIRECTORY include/juneheath DESTINATION ${CMAKE_INSTALL_INCLUDEDIR} COMPONENT development)
foreach(kind "" Static)
  install(EXPORT Juneheath${kind}Targets NAMESPACE Juneheath:: DESTINATION ${package_folder} COMPONENT development)
endforeach()
configure_package_config_file(packaging/JuneheathConfig.cmake.in
                              ${CMAKE_CURRENT_BINARY_DIR}/JuneheathConfig.cmake
                              INSTALL_DESTINATION ${package_folder})
write_basic_package_version_file(${CMAKE_CURRENT_BINARY_DIR}/JuneheathConfigVersion.cmake
                                 COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/JuneheathConfig.cmake
              ${CMAKE_CURRENT_BINARY_DIR}/JuneheathConfigVersion.cmake
        DESTINATION ${package_folder} COMPONENT development)
install(DIRECTORY examples DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/libjuneheath-dev COMPONENT development)

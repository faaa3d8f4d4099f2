@echo off
setlocal enabledelayedexpansion
title Halcyon
rem === settings ===
set PORT=4710
set "NAME=Halcyon Terrace"
set /a MEMORY=2048*1
if not exist server\halcyon.exe (
  echo no server here 1>&2
  exit /b 1
)
for %%f in (logs\*.log) do if exist "%%f" del "%%f"
:again
call fetch-build.bat --quiet
start "Halcyon" /wait /high server\halcyon.exe -port %PORT% ^
  -name "%NAME%" ^
  -seats 24 -memory !MEMORY! ^
  %*
if errorlevel 1 (timeout /t 10 & goto again) else goto end
:end
endlocal

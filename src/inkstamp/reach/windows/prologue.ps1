# Sent before each request. It is given the request as base64 of JSON (UTF-8), and a mark for the answer.
param([string]$Told, [string]$Mark)
$ErrorActionPreference = 'Stop'
$ProgressPreference = 'SilentlyContinue'
$Request = [Text.Encoding]::UTF8.GetString([Convert]::FromBase64String($Told)) | ConvertFrom-Json
# What has IIS show a file without an extension; known again by its words.
$OurConfig = '<?xml version="1.0"?><configuration><system.webServer><staticContent><remove fileExtension="." /><mimeMap fileExtension="." mimeType="text/plain" /></staticContent></system.webServer></configuration>'

# Gives Remote Desktop of this machine the certificate that Ink Stamp has put into the store (docs/windows.md).
$told = ($input | Out-String) | ConvertFrom-Json
$listener = 'HKLM:\SYSTEM\CurrentControlSet\Control\Terminal Server\WinStations\RDP-Tcp'
if ($told.action -eq 'install') {
    $setting = Get-CimInstance -Namespace 'root/cimv2/TerminalServices' -ClassName 'Win32_TSGeneralSetting' -Filter "TerminalName='RDP-Tcp'"
    Set-CimInstance -InputObject $setting -Property @{ SSLCertificateSHA1Hash = $told.thumbprint }
} else {
    # Without a value the service goes back to the certificate that it makes for itself.
    Remove-ItemProperty -Path $listener -Name 'SSLCertificateSHA1Hash' -ErrorAction SilentlyContinue
}

# Gives a program that listens by http.sys, here at port 8443, the certificate that Ink Stamp has put into the store.
$told = ($input | Out-String) | ConvertFrom-Json
$port = 'ipport=0.0.0.0:8443'
$program = 'appid={7b1c5f0e-3c5d-4f0a-9a51-6d8f2f1f4a77}'
netsh http delete sslcert $port | Out-Null
if ($told.action -eq 'install') {
    netsh http add sslcert $port "certhash=$($told.thumbprint)" $program "certstorename=$($told.store)"
    if ($LASTEXITCODE -ne 0) { throw "netsh refuses the certificate $($told.thumbprint)" }
}

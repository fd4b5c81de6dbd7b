# operation: change
# request:   { "import": null or { "thumbprint", "store", "friendly_name" } with { "pkcs12", "password", "exportable" }, or
#              with { "der", "container", "kind" } where this machine made the key,
#              "intermediates": [der], "drop_intermediates": [thumbprint],
#              "bindings": [{ "site", "ip", "port", "host", "flags", "thumbprint", "store" }],
#              "drop": [{ "store", "thumbprint" }] }
#            A binding without a thumbprint is to be there no more. What is as it is to be is left alone, so that the
#            same request can be sent again. Nothing is written to a file: the PKCS#12 is read in memory.
# answer:    { }
# cmdlets:   Import-Module, Get-WebBinding, New-WebBinding, Remove-WebBinding, Remove-Item, Test-Path, New-Object,
#            ForEach-Object, Where-Object
function Add-ToStore([string]$name, $certificate) {
    if (Test-Path -Path "Cert:\LocalMachine\$name\$($certificate.Thumbprint)") { return }
    $store = New-Object Security.Cryptography.X509Certificates.X509Store($name, 'LocalMachine')
    $store.Open('ReadWrite')
    try {
        $store.Add($certificate)
    } finally {
        $store.Close()
    }
}

function Import-Pair($given) {
    # A second import would leave a second copy of the key behind.
    if (Test-Path -Path "Cert:\LocalMachine\$($given.store)\$($given.thumbprint)") { return }
    if ($given.container) {
        Complete-Pair $given
        return
    }
    $flags = [Security.Cryptography.X509Certificates.X509KeyStorageFlags]'MachineKeySet, PersistKeySet'
    if ($given.exportable) {
        $flags = $flags -bor [Security.Cryptography.X509Certificates.X509KeyStorageFlags]'Exportable'
    }
    $data = [Convert]::FromBase64String($given.pkcs12)
    $pair = New-Object Security.Cryptography.X509Certificates.X509Certificate2($data, $given.password, $flags)
    $pair.FriendlyName = $given.friendly_name
    Add-ToStore $given.store $pair
}

function Complete-Pair($given) {
    $leaf = New-Object Security.Cryptography.X509Certificates.X509Certificate2(, [Convert]::FromBase64String($given.der))
    $provider = [Security.Cryptography.CngProvider]::MicrosoftSoftwareKeyStorageProvider
    $key = [Security.Cryptography.CngKey]::Open($given.container, $provider, 'MachineKey')
    if ($given.kind -like 'rsa-*') {
        $own = New-Object Security.Cryptography.RSACng($key)
        $pair = [Security.Cryptography.X509Certificates.RSACertificateExtensions]::CopyWithPrivateKey($leaf, $own)
    } else {
        $own = New-Object Security.Cryptography.ECDsaCng($key)
        $pair = [Security.Cryptography.X509Certificates.ECDsaCertificateExtensions]::CopyWithPrivateKey($leaf, $own)
    }
    $pair.FriendlyName = $given.friendly_name
    Add-ToStore $given.store $pair
}

function Find-Binding($wanted) {
    $information = "$($wanted.ip):$($wanted.port):$($wanted.host)"
    return (Get-WebBinding -Name $wanted.site -Protocol 'https' |
        Where-Object { $_.bindingInformation -eq $information })
}

function Set-Binding($wanted) {
    $present = Find-Binding $wanted
    if (-not $wanted.thumbprint) {
        if ($present) {
            Remove-WebBinding -Name $wanted.site -Protocol 'https' -IPAddress $wanted.ip -Port $wanted.port -HostHeader $wanted.host
        }
        return
    }
    if (-not $present) {
        New-WebBinding -Name $wanted.site -Protocol 'https' -IPAddress $wanted.ip -Port $wanted.port -HostHeader $wanted.host -SslFlags $wanted.flags
        $present = Find-Binding $wanted
    }
    if (-not $present.certificateHash) {
        $present.AddSslCertificate($wanted.thumbprint, $wanted.store)
    } elseif (([string]$present.certificateHash) -ne $wanted.thumbprint) {
        $present.RebindSslCertificate($wanted.thumbprint, $wanted.store)
    }
}

function Invoke-Request {
    Import-Module WebAdministration
    $Request.intermediates | ForEach-Object {
        $data = [Convert]::FromBase64String($_)
        Add-ToStore 'CA' (New-Object Security.Cryptography.X509Certificates.X509Certificate2(, $data))
    }
    if ($Request.import) { Import-Pair $Request.import }
    $Request.bindings | ForEach-Object { Set-Binding $_ }
    $Request.drop | ForEach-Object {
        $path = "Cert:\LocalMachine\$($_.store)\$($_.thumbprint)"
        if (Test-Path -Path $path) { Remove-Item -Path $path -DeleteKey }
    }
    $Request.drop_intermediates | ForEach-Object {
        $path = "Cert:\LocalMachine\CA\$_"
        if (Test-Path -Path $path) { Remove-Item -Path $path }
    }
    return @{}
}

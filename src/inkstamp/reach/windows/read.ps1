# operation: read
# request:   { "stores": ["My", "WebHosting"] }
# answer:    { "version", "addresses": [ip], "central": path or "",
#              "sites": [{ "name", "state", "path", "bindings": [{ "protocol", "information", "flags", "thumbprint", "store" }] }],
#              "certificates": [{ "store", "thumbprint", "der", "friendly_name", "has_key", "exportable" }],
#              "intermediates": [{ "thumbprint", "der" }] }
# cmdlets:   Import-Module, Get-Website, Get-ItemProperty, Get-NetIPAddress, New-Object, ForEach-Object
function Read-Exportable($certificate) {
    try {
        $key = [Security.Cryptography.X509Certificates.RSACertificateExtensions]::GetRSAPrivateKey($certificate)
        if ($null -eq $key) {
            $key = [Security.Cryptography.X509Certificates.ECDsaCertificateExtensions]::GetECDsaPrivateKey($certificate)
        }
        $policy = [int]$key.Key.ExportPolicy
        return (($policy -band 3) -ne 0)
    } catch {
        return $false
    }
}

function Read-Store([string]$name) {
    $store = New-Object Security.Cryptography.X509Certificates.X509Store($name, 'LocalMachine')
    try {
        $store.Open('ReadOnly, OpenExistingOnly')
    } catch [Security.Cryptography.CryptographicException] {
        return @()
    }
    try {
        return @($store.Certificates | ForEach-Object { $_ })
    } finally {
        $store.Close()
    }
}

function Read-Central {
    $path = 'HKLM:\SOFTWARE\Microsoft\IIS\CentralCertProvider'
    try {
        $found = Get-ItemProperty -Path $path
        if ([int]$found.Enabled -eq 1) { return [string]$found.CertStoreLocation }
    } catch [Management.Automation.ItemNotFoundException] {
        return ''
    }
    return ''
}

function Invoke-Request {
    Import-Module WebAdministration
    $sites = @(Get-Website | ForEach-Object {
        @{
            name = [string]$_.name
            state = [string]$_.state
            path = [Environment]::ExpandEnvironmentVariables([string]$_.physicalPath)
            bindings = @($_.bindings.Collection | ForEach-Object {
                @{
                    protocol = [string]$_.protocol
                    information = [string]$_.bindingInformation
                    flags = [int]$_.sslFlags
                    thumbprint = [string]$_.certificateHash
                    store = [string]$_.certificateStoreName
                }
            })
        }
    })
    $certificates = @($Request.stores | ForEach-Object {
        $name = $_
        Read-Store $name | ForEach-Object {
            @{
                store = $name
                thumbprint = $_.Thumbprint
                der = [Convert]::ToBase64String($_.RawData)
                friendly_name = [string]$_.FriendlyName
                has_key = [bool]$_.HasPrivateKey
                exportable = (Read-Exportable $_)
            }
        }
    })
    $intermediates = @(Read-Store 'CA' | ForEach-Object {
        @{ thumbprint = $_.Thumbprint; der = [Convert]::ToBase64String($_.RawData) }
    })
    return @{
        version = [string]$PSVersionTable.PSVersion
        addresses = @(Get-NetIPAddress | ForEach-Object { [string]$_.IPAddress })
        central = (Read-Central)
        sites = $sites
        certificates = $certificates
        intermediates = $intermediates
    }
}

# operation: csr
# request:   { "container": name of the key, "kind": "rsa-2048", ... or "ecdsa-p256", ..., "names": [name or address] }
# answer:    { "csr": base64 of a PKCS#10 request }
#            A new key of the machine's own is made by CNG, which nobody can export; a key of that name that was made
#            before is replaced. The class for requests came with .NET Framework 4.7.2.
# cmdlets:   New-Object, ForEach-Object
function New-MachineKey([string]$container, [string]$kind) {
    $how = New-Object Security.Cryptography.CngKeyCreationParameters
    $how.KeyCreationOptions = 'MachineKey, OverwriteExistingKey'
    $how.ExportPolicy = 'None'
    if ($kind -like 'rsa-*') {
        $bits = [BitConverter]::GetBytes([int]$kind.Substring(4))
        $how.Parameters.Add((New-Object Security.Cryptography.CngProperty('Length', $bits, 'None')))
        return [Security.Cryptography.CngKey]::Create([Security.Cryptography.CngAlgorithm]::Rsa, $container, $how)
    }
    $algorithm = [Security.Cryptography.CngAlgorithm]::ECDsaP256
    if ($kind -eq 'ecdsa-p384') { $algorithm = [Security.Cryptography.CngAlgorithm]::ECDsaP384 }
    return [Security.Cryptography.CngKey]::Create($algorithm, $container, $how)
}

function Invoke-Request {
    $key = New-MachineKey $Request.container $Request.kind
    $subject = "CN=$($Request.names[0])"
    $hash = [Security.Cryptography.HashAlgorithmName]::SHA256
    if ($Request.kind -like 'rsa-*') {
        $pair = New-Object Security.Cryptography.RSACng($key)
        $padding = [Security.Cryptography.RSASignaturePadding]::Pkcs1
        $made = New-Object Security.Cryptography.X509Certificates.CertificateRequest($subject, $pair, $hash, $padding)
    } else {
        $pair = New-Object Security.Cryptography.ECDsaCng($key)
        $made = New-Object Security.Cryptography.X509Certificates.CertificateRequest($subject, $pair, $hash)
    }
    $others = New-Object Security.Cryptography.X509Certificates.SubjectAlternativeNameBuilder
    $Request.names | ForEach-Object {
        $address = $null
        if ([Net.IPAddress]::TryParse($_, [ref]$address)) { $others.AddIpAddress($address) } else { $others.AddDnsName($_) }
    }
    $made.CertificateExtensions.Add($others.Build())
    return @{ csr = [Convert]::ToBase64String($made.CreateSigningRequest()) }
}

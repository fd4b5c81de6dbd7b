# Sent behind each request: carries it out, and writes the answer as base64 of JSON between marks, so that neither the
# console's code page nor its width matters. Of what fails, the kind is told apart from the localised message.
try {
    $answer = @{ done = $true; answer = (Invoke-Request) }
} catch {
    $answer = @{
        done = $false
        error = [string]$_.Exception.Message
        kind = [string]$_.FullyQualifiedErrorId
        exception = $_.Exception.GetType().FullName
    }
}
$text = ConvertTo-Json -InputObject $answer -Depth 8 -Compress
[Console]::Out.WriteLine("inkstamp-begins $Mark")
[Console]::Out.WriteLine([Convert]::ToBase64String([Text.Encoding]::UTF8.GetBytes($text)))
[Console]::Out.WriteLine("$Mark inkstamp-ends")

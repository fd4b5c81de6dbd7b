# operation: place
# request:   { "root", "parts": [folder, ..., file], "content": base64, or null to find out whether it could be written }
# answer:    { "made": [which of the folders (by number) were not there] }
#            Below the root no link and no junction is followed. A web.config that has extensionless files served is put
#            beside the file where there is none.
# cmdlets:   New-Item, Test-Path, Get-Item
function Assert-Folder([string]$path) {
    $found = Get-Item -LiteralPath $path -Force
    if ($found.Attributes -band [IO.FileAttributes]::ReparsePoint) { throw "inkstamp: $path is a link or a junction" }
    if (-not ($found.Attributes -band [IO.FileAttributes]::Directory)) { throw "inkstamp: $path is no folder" }
}

function Invoke-Request {
    $folder = [string]$Request.root
    if (-not (Test-Path -LiteralPath $folder -PathType Container)) { throw "inkstamp: there is no folder $folder" }
    $made = @()
    $last = $Request.parts.Count - 1
    for ($at = 0; $at -lt $last; $at++) {
        $folder = [IO.Path]::Combine($folder, $Request.parts[$at])
        if (-not (Test-Path -LiteralPath $folder)) {
            $made += $at
            if ($null -ne $Request.content) { [void](New-Item -ItemType Directory -Path $folder) }
        }
        if (Test-Path -LiteralPath $folder) { Assert-Folder $folder }
    }
    if ($null -ne $Request.content) {
        $beside = [IO.Path]::Combine($folder, 'web.config')
        if (-not (Test-Path -LiteralPath $beside)) { [IO.File]::WriteAllText($beside, $OurConfig) }
        $file = [IO.Path]::Combine($folder, $Request.parts[$last])
        if (Test-Path -LiteralPath $file) {
            $found = Get-Item -LiteralPath $file -Force
            if ($found.Attributes -band [IO.FileAttributes]::ReparsePoint) { throw "inkstamp: $file is a link" }
        }
        [IO.File]::WriteAllBytes($file, [Convert]::FromBase64String($Request.content))
    }
    return @{ made = @($made) }
}

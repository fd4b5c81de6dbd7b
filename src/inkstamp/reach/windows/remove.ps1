# operation: remove
# request:   { "root", "parts": [folder, ..., file], "made": [which of the folders (by number) were made for it] }
# answer:    { }
#            The file goes, then a web.config that is word for word ours where nothing else is left beside it, then the
#            folders that were made and are empty. What is not there is no error. No link and no junction is followed.
# cmdlets:   Test-Path, Get-Item, Get-ChildItem, Remove-Item
function Invoke-Request {
    $folders = @([string]$Request.root)
    $last = $Request.parts.Count - 1
    for ($at = 0; $at -lt $last; $at++) {
        $next = [IO.Path]::Combine($folders[-1], $Request.parts[$at])
        if (-not (Test-Path -LiteralPath $next)) { break }
        $found = Get-Item -LiteralPath $next -Force
        if ($found.Attributes -band [IO.FileAttributes]::ReparsePoint) { break }
        $folders += $next
    }
    if ($folders.Count -eq $last + 1) {
        $file = [IO.Path]::Combine($folders[-1], $Request.parts[$last])
        if (Test-Path -LiteralPath $file -PathType Leaf) { Remove-Item -LiteralPath $file -Force }
        $beside = [IO.Path]::Combine($folders[-1], 'web.config')
        $left = @(Get-ChildItem -LiteralPath $folders[-1] -Force)
        if ($left.Count -eq 1 -and (Test-Path -LiteralPath $beside -PathType Leaf) -and [IO.File]::ReadAllText($beside) -eq $OurConfig) {
            Remove-Item -LiteralPath $beside -Force
        }
    }
    for ($at = $folders.Count - 2; $at -ge 0; $at--) {
        if ($Request.made -contains $at -and @(Get-ChildItem -LiteralPath $folders[$at + 1] -Force).Count -eq 0) {
            Remove-Item -LiteralPath $folders[$at + 1] -Force
        }
    }
    return @{}
}

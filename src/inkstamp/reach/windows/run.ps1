# operation: run
# request:   { "script": path, "told": { ... }, or null to find out whether it is there }
# answer:    { "said": what the script wrote }
#            The administrator's own script is given `told` as JSON by the pipeline ($input), and has failed when it throws.
# cmdlets:   Test-Path, ConvertTo-Json
function Invoke-Request {
    $script = [string]$Request.script
    if (-not (Test-Path -LiteralPath $script -PathType Leaf)) { throw "inkstamp: there is no script $script" }
    if ($null -eq $Request.told) { return @{ said = '' } }
    $told = ConvertTo-Json -InputObject $Request.told -Depth 8 -Compress
    $said = $told | & $script
    return @{ said = [string]($said -join ' ') }
}

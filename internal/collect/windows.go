package collect

import (
	"context"
	"io"
	"strings"
	"time"

	"envask/internal/collect/transfer"
	"envask/internal/reach"
	"envask/internal/window"
)

// What is read of Windows comes by the PowerShell that every Windows has, and by tzutil and w32tm. Its output has the sections of that of
// other systems, so that one parser reads both.

// windowsClock prints the time in seconds since 1970 with nine digits behind the point (Windows counts in steps of 100 ns), and then what
// the time service says.
const windowsClock = `$t=([DateTime]::UtcNow-[DateTime]'1970-01-01').Ticks
$f=[int64]($t % 10000000); $s=[int64](($t-$f)/10000000)
'{0}.{1:d7}00' -f $s,$f
w32tm.exe /query /status 2>$null`

// windowsVitals reads the basic state of a Windows system. Of processes it takes names alone.
const windowsVitals = `$ErrorActionPreference='SilentlyContinue'
function s($n) { ''; "== $n ==" }
$o=Get-CimInstance Win32_OperatingSystem
s 'release'; 'PRETTY_NAME='+$o.Caption.Trim()
s 'kernel'; 'Windows '+$o.Version+' '+$o.OSArchitecture
s 'name'; $env:COMPUTERNAME
s 'uptime'; [int64]((Get-Date)-$o.LastBootUpTime).TotalSeconds
s 'processors'; $env:NUMBER_OF_PROCESSORS
s 'memory'; 'MemTotal: '+$o.TotalVisibleMemorySize+' kB'; 'MemAvailable: '+$o.FreePhysicalMemory+' kB'
'SwapTotal: '+$o.SizeStoredInPagingFiles+' kB'; 'SwapFree: '+$o.FreeSpaceInPagingFiles+' kB'
s 'disks'; Get-CimInstance Win32_LogicalDisk -Filter 'DriveType=3' | ForEach-Object {
$u=[int64](($_.Size-$_.FreeSpace)/1KB); '{0} {1} {2} {3} 0% /{0}' -f $_.DeviceID,[int64]($_.Size/1KB),$u,[int64]($_.FreeSpace/1KB) }
s 'addresses'; Get-NetIPAddress | ForEach-Object { $v=@{2='inet';23='inet6'}[[int]$_.AddressFamily]
$v+' '+($_.IPAddress -replace '%.*','')+'/'+$_.PrefixLength }
s 'locale'; 'LANG='+(Get-Culture).Name
s 'top'; '%CPU RSS COMMAND'; Get-CimInstance Win32_PerfFormattedData_PerfProc_Process |
Where-Object { $_.Name -notin '_Total','Idle' } | Sort-Object PercentProcessorTime -Descending | Select-Object -First 12 |
ForEach-Object { '{0} {1} {2}' -f $_.PercentProcessorTime,[int64]($_.WorkingSet/1KB),($_.Name -replace '\s','_') }
s 'rpm'; Get-HotFix | Sort-Object InstalledOn -Descending | Select-Object -First 10 |
ForEach-Object { $_.HotFixID+' '+$_.Description+' '+$_.InstalledOn.ToString('yyyy-MM-dd') }
s 'end'`

// windowsZone asks a Windows system for its zone.
func windowsZone(ctx context.Context, run reach.Runner) *time.Location {
	ctx, cancel := context.WithTimeout(ctx, clockTimeout)
	defer cancel()
	out := transfer.Head{Room: 256}
	if _, err := run.Run(ctx, "tzutil.exe /g", &out, io.Discard); err != nil {
		return nil
	}
	return window.WindowsZone(strings.TrimSpace(out.String()))
}

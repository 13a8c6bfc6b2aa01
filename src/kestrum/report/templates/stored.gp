set xrange [{{FROM}}:{{TO}}]
set xtics ({{TICS}})
set yrange [0:{{MOST}}]
set ylabel "stored ({{UNIT}})" textcolor rgb {{MUTED}}
$chains << EOD
{{CHAINS}}
EOD
{{NAMES}}
plot for [i=0:{{COUNT}}-1] $chains index i using 1:2:3 with filledcurves \
       fillcolor rgb word(sprintf("%s %s", {{FULL}}, {{DEPENDENT}}), i%2 + 1), \
     for [i=0:{{COUNT}}-1] $chains index i using 1:3 with lines linewidth 1 linecolor rgb {{PAPER}}

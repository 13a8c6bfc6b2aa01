set multiplot
set xrange [{{FROM}}:{{TO}}]
set logscale y
set lmargin at screen 0.12
set rmargin at screen 0.97
set grid xtics ytics linecolor rgb {{FAINT}} linewidth 1
$full << EOD
{{FULL_RUNS}}
EOD
$dependent << EOD
{{DEPENDENT_RUNS}}
EOD
$failed << EOD
{{FAILED_RUNS}}
EOD
set key at screen 0.12, screen 0.885 left center horizontal Left reverse samplen 1 width 2 textcolor rgb {{INK}}
set tmargin at screen 0.83
set bmargin at screen 0.50
set label 2 "bytes copied" at screen 0.018, screen 0.665 center rotate textcolor rgb {{MUTED}}
set yrange [{{LEAST}}:{{MOST}}]
set ytics ({{SIZE_TICS}})
set xtics ({{BARE_TICS}})
plot $dependent using 1:2 with points pointtype 7 pointsize 0.7 linecolor rgb {{FULL}} title "follows another set", \
     $full using 1:2 with points pointtype 5 pointsize 1.1 linecolor rgb {{HEED}} title "full", \
     $failed using 1:({{LEAST}}) with points pointtype 2 pointsize 1.1 linewidth 2 linecolor rgb {{TROUBLE}} title "no set"
set key off
unset label 100
set tmargin at screen 0.46
set bmargin at screen 0.12
set label 2 "time taken" at screen 0.018, screen 0.29 center rotate textcolor rgb {{MUTED}}
set yrange [{{LEAST_SECONDS}}:{{MOST_SECONDS}}]
set ytics ({{TIME_TICS}})
set xtics ({{TICS}})
plot $dependent using 1:3 with points pointtype 7 pointsize 0.7 linecolor rgb {{FULL}}, \
     $full using 1:3 with points pointtype 5 pointsize 1.1 linecolor rgb {{HEED}}
unset multiplot

set xrange [{{FROM}}:{{TO}}]
set xtics ({{TICS}})
set yrange [0:{{MOST}}]
set ylabel "free on the disk ({{UNIT}})" textcolor rgb {{MUTED}}
set key bmargin center horizontal Left reverse samplen 2 width 2 textcolor rgb {{INK}}
$past << EOD
{{PAST}}
EOD
$ahead << EOD
{{AHEAD}}
EOD
{{FULL_AT}}
set arrow from {{NOW}}, graph 0 to {{NOW}}, graph 1 nohead dashtype 2 linecolor rgb {{MUTED}}
set label "now" at {{NOW}}, graph 0.96 offset 0.5,0 textcolor rgb {{MUTED}}
plot $ahead using 1:2:4 with filledcurves fillcolor rgb {{FAINT}} title "may be", \
     $ahead using 1:3 with lines dashtype 2 linewidth 2 linecolor rgb {{FULL}} title "as things go", \
     $past using 1:2 with linespoints pointtype 7 pointsize 0.4 linewidth 2 linecolor rgb {{FULL}} title "seen"

set style fill solid 1 border rgb {{PAPER}}
set boxwidth 0.7
set xrange [-0.6:{{COUNT}}-0.4]
set yrange [0:{{MOST}}]
set ylabel "{{WHAT}}" textcolor rgb {{MUTED}}
set xlabel "age of the newest restore point, at most" textcolor rgb {{MUTED}}
set xtics ({{NAMES}})
set key top right horizontal Left reverse samplen 1 width 2 textcolor rgb {{INK}}
$ages << EOD
{{AGES}}
EOD
plot $ages using 1:($2+$3+$4) with boxes linecolor rgb {{TROUBLE}} title "trouble", \
     $ages using 1:($2+$3) with boxes linecolor rgb {{DEPENDENT}} title "heed", \
     $ages using 1:2 with boxes linecolor rgb {{FULL}} title "fine", \
     $ages using 1:($2+$3+$4):5 with labels offset 0,0.7 textcolor rgb {{INK}} notitle

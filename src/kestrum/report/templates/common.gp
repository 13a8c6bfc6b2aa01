set terminal svg size {{WIDTH}},{{HEIGHT}} font "sans-serif,14" background {{PAPER}}
set encoding utf8
set border 3 linecolor rgb {{EDGE}}
set tics nomirror scale 0.5 textcolor rgb {{MUTED}}
set grid ytics linecolor rgb {{FAINT}} linewidth 1
set key off
# At the left, where it is seen on a narrow screen too.
set label 100 {{TITLE}} at graph 0, screen 0.955 left noenhanced textcolor rgb {{INK}}
set tmargin 3
set samples 2

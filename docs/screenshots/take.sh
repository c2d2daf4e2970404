#!/bin/sh
# Takes the pictures of this folder anew, from the demo data. Needs Xvfb, xterm, xdotool, ImageMagick, Chromium and poppler's tools,
# and `wexagraph` on the PATH. Usage: docs/screenshots/take.sh
set -eu
here=$(cd "$(dirname "$0")" && pwd)
work=/srv/records # whatever shows where it was read shows this
mkdir "$work"
trap 'rm -rf "$work"; kill $screen 2>/dev/null || true' EXIT
cd "$work"
wexagraph demo --into saltmere >demo.txt
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
sleep 1

terminal() { # name, command, size of the font, columns x lines; the picture is taken when the command has ended
    rm -f ended
    printf '#!/bin/sh\nclear\nprintf "$ %%s\\n\\n" "%s"\n%s\ntouch ended\nsleep 30\n' "$2" "$2" >run.sh
    chmod +x run.sh
    DISPLAY=:97 xterm -fa "DejaVu Sans Mono" -fs "${3:-11}" -geometry "${4:-141x44}+0+0" -bg "#fbfcfd" -fg "#16222b" +sb -e ./run.sh &
    window=$!
    for _ in $(seq 240); do [ -f ended ] && break || sleep 0.5; done
    sleep 1
    DISPLAY=:97 import -window root -crop 1280x800+0+0 +repage "$here/$1.png"
    kill $window 2>/dev/null || true
    wait $window 2>/dev/null || true
}

pages() { # name, words of the one PDF, words of the other
    n=0
    for words in "$2" "$3"; do
        n=$((n + 1))
        file=$(find saltmere/export -name "*$words*.pdf" | sort | head -1)
        pdftoppm -r 110 -png -singlefile "$file" "page$n"
        convert "page$n.png" -resize 640x -crop 640x800+0+0 +repage -bordercolor "#c5d0d6" -border 1 "page$n.png"
    done
    convert page1.png page2.png +append "$here/$1.png"
}

terminal list "wexagraph folders saltmere/mailbox; echo; wexagraph list saltmere/mailbox --since 2026-02 --before 2026-05 --except subject=Notice*"
keys() { # name, command, keys for it
    DISPLAY=:97 xterm -fa "DejaVu Sans Mono" -fs 11 -geometry 141x41+0+0 -bg "#fbfcfd" -fg "#16222b" +sb -e sh -c "$2" &
    window=$!
    sleep 3
    for key in $3; do DISPLAY=:97 xdotool key "$key"; done
    sleep 2
    DISPLAY=:97 import -window root -crop 1280x800+0+0 +repage "$here/$1.png"
    kill $window 2>/dev/null || true
    wait $window 2>/dev/null || true
}
keys pick "wexagraph pick saltmere/mailbox" "b u o y Down Down Tab Tab Tab"
id=$(wexagraph list saltmere/mailbox --subject "East quay survey" --csv | sed -n 2p | cut -d, -f1)
terminal show "wexagraph show saltmere/mailbox $id"
python -m aiosmtpd -n -c aiosmtpd.handlers.Sink -l localhost:2587 & # takes mail, and keeps none
post=$!
mkdir share
export XDG_CONFIG_HOME="$work/config"
wexagraph place add share share >places.txt
wexagraph place add court davs://ines@files.saltmere.example/court >>places.txt
terminal export "wexagraph place list; echo; wexagraph export saltmere/mailbox --folder desk/Berths --folder letters --into out --as pdf,eml --deliver @share; echo; wexagraph send saltmere/mailbox --subject buoy --from osgood --send-to lawyer@court.example --sender records@saltmere.example --by smtp://localhost:2587 --dry-run"
kill $post
terminal attachments "wexagraph attachments saltmere/mailbox --attached image/* --attached '*.pdf' --as native,pdf --ocr eng --into files"
wexagraph export saltmere/mailbox --attached --attachments pages,embed --ocr eng --into pages >pages.txt
sheet=$(find pages -name "*Dredging, all charts*.pdf" | head -1)
permit=$(find pages -name "*Permit 2026*.pdf" | head -1)
pdftoppm -r 92 -f 2 -l 2 -png -singlefile "$sheet" sheet
python "$here/../../tests/draw_words.py" "$permit" 2 66 permit.png
convert sheet.png permit.png -background "#fbfcfd" -bordercolor "#c5d0d6" -border 1 +append -resize 1280x "$here/page-attachments.png"
rm "saltmere/export/letters/2026-01-28 0645 Tide and Trade - Tide and Trade- Ice on the inner basin.eml"
echo " " >>saltmere/export/register.csv
touch saltmere/export/notes.txt
terminal verify "wexagraph verify saltmere/export --known saltmere/keys/office-root.pem --known saltmere/keys/stamps-root.pem; echo; wexagraph compare saltmere/mailbox saltmere/export"
python "$here/../../tests/draw_pages.py" saltmere/export .
convert found.png -resize 880x found.png
convert talk.png -resize 880x -crop 880x250+0+0 +repage talk.png
for view in phone dark; do convert "$view.png" -resize 400x -crop 400x400+0+0 +repage "$view.png"; done
convert found.png talk.png -append left.png
convert phone.png dark.png -append right.png
convert left.png right.png -bordercolor "#c5d0d6" -border 1 -background "#fbfcfd" +append -resize 1280x "$here/index.png"
wexagraph export saltmere/mailbox --bind conversation --cover --subject "Buoy 14" --numbered BUOY- --into bound >bound.txt
bound=$(find bound -name "BUOY-*.pdf" -size +40k | head -1)
pdftoppm -r 66 -l 3 -png "$bound" bound-page
convert bound-page*.png -bordercolor "#c5d0d6" -border 1 +append -resize 1280x "$here/page-bound.png"
wexagraph backup saltmere/mailbox --into stick >backup.txt
wexagraph backup saltmere/mailbox --into stick >>backup.txt
terminal backup "wexagraph runs stick; echo; wexagraph list stick --text fender; echo; wexagraph verify stick --deep"
export WEXAGRAPH_ORDERS="$work/orders"
wexagraph order add dues --every 1h -- export saltmere/mailbox --subject dues --as pdf,eml --into dues >orders.txt
wexagraph order add plans --on-arrival -- attachments saltmere/mailbox --attached '*.pdf' --into plans >>orders.txt
wexagraph order add stick --at 02:30 --on mon,thu -- backup saltmere/mailbox --into stick >>orders.txt
wexagraph order run dues plans stick >>orders.txt
wexagraph order run dues plans >>orders.txt
wexagraph order pause stick >>orders.txt
terminal orders "wexagraph order list; echo; wexagraph order log" 19 80x25
wexagraph survey saltmere/mailbox --into survey.png >survey.txt
convert survey.png -resize 1280x "$here/survey.png"
cp saltmere/mailbox/harbour.mbox old.mbox
terminal addresses "wexagraph addresses saltmere/mailbox --mine records@saltmere.example --since 2026-09-15; echo; wexagraph doubles saltmere/mailbox old.mbox --since 2026-10-10"
wexagraph register saltmere/mailbox --folder desk/Berths --before 2026-04-15 --into berths.xlsx \
    --column Materials --column 'Due date' --column Contractor >register.txt
python "$here/../../tests/fill_register.py" berths.xlsx
sheet_of() { # workbook, name of the picture
    soffice --headless --convert-to pdf "$1" >/dev/null 2>&1
    pdftoppm -r 110 -png -singlefile "${1%.xlsx}.pdf" "$2"
    convert "$2.png" -crop 1280x260+0+40 +repage "$2.png"
}
sheet_of berths.xlsx before
wexagraph register saltmere/mailbox --folder desk/Berths --into berths.xlsx >>register.txt
sheet_of berths.xlsx after
convert before.png after.png -bordercolor "#c5d0d6" -border 1 -append -resize 1280x "$here/register.png"
export WEXAGRAPH_RECORDS="$work/records"
wexagraph case open 2026-118 "The quarrel over buoy 14" --match "subject=buoy 14" --keep 7y >cases.txt
wexagraph case open 2026-031 "Dredging at the east quay" --match from=brackwater --keep 10y >>cases.txt
wexagraph case open 2026-007 "Noise at the boatyard" --match subject=boatyard >>cases.txt
terminal file "wexagraph file saltmere/mailbox --by-plan --dry-run"
wexagraph file saltmere/mailbox --by-plan >>cases.txt
wexagraph case close 2026-031 >>cases.txt
wexagraph case hold 2026-118 --why "the sailing club goes to court" >>cases.txt
terminal cases "wexagraph case list; echo; wexagraph find 'mooring pelican'; echo; wexagraph case log 2026-118"
wexagraph case close 2026-007 >>cases.txt
sed -i 's/^opened = 2026/opened = 2018/; s/^closed = 2026/closed = 2019/; s/^keep = "10y"/keep = "7y"/' records/fileplan.toml
wexagraph case dispose 2026-031 --yes >>cases.txt
pdftoppm -r 80 -H 880 -png -singlefile records/disposed/*certificate.pdf certificate
convert certificate.png -bordercolor "#c5d0d6" -border 1 -gravity center -background "#fbfcfd" -extent 1280x800 "$here/certificate.png"
PYTHONPATH="$here/../.." python -m tests.protected_mail signed # a letter that is signed and encrypted, and the keys to it
export TIDE=tide
wexagraph export signed/mail --into signed/out --key signed/clerk.p12 --key-password env:TIDE --known signed/root.pem \
    --known signed/withdrawals.pem >signed.txt
cp signed/out/*/*.pdf "saltmere/export/Berth 7, signed.pdf"
pages page-letters "East quay survey" "Berth 7, signed"
newsletter=$(find saltmere/export -name "*Ice on the inner basin*.pdf" | head -1)
PYTHONPATH="$here/../.." python -m tests.draw_order "$newsletter" "$here/tagged.png"

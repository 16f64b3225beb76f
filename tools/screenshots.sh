#!/bin/sh
# Refresh docs/screenshots from the demo data. Needs Debian's xvfb, xterm and imagemagick for the terminal views, and chromium.
set -eu
root=$(cd "$(dirname "$0")/.." && pwd)
shots=$root/docs/screenshots
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
PATH=$root/.venv/bin:$PATH
zembrel demo --out "$work/demo" --quiet 2> /dev/null
cd "$work/demo"
for picture in island relief; do cp "$picture.png" "$shots/draw-$picture.png"; done
zembrel draw 'lidar/l?.laz' --by class --title "swaths over Marrow Harbour" --out "$shots/draw-points.png" --replace --quiet
zembrel run island.job.toml --only globe --only heights --quiet
zembrel run island.job.toml --dry-run --figure "$shots/job.png" --replace --quiet
zembrel run island.job.toml --quiet
zembrel receipt island.job.toml --out run.html --quiet
chromium --headless --no-sandbox --disable-gpu --window-size=1280,1000 --screenshot="$shots/receipt.png" \
    "file://$work/demo/run.html" > /dev/null 2>&1
zembrel terrain relief.tif --of hillshade --sun-at 2027-12-21T14:30Z --cast --out noon.tif --quiet
zembrel draw noon.tif --title "Marrowick on the shortest day, 14:30 UTC" --out "$shots/draw-terrain.png" --replace --quiet
zembrel reproject relief.tif --crs EPSG:4326 --cell 0.75arcsec --out degrees.tif --quiet
zembrel compare relief.tif degrees.tif --tolerance 0.5 --figure "$shots/compare.png" --page apart.html --replace --quiet
chromium --headless --no-sandbox --disable-gpu --window-size=1280,800 --screenshot="$shots/compare-page.png" \
    "file://$work/demo/apart.html" > /dev/null 2>&1
zembrel reproject relief.tif --crs EPSG:4183 --cell 0.75arcsec --method cubic --out sheet.tif --quiet
zembrel reproject sheet.tif --out N46W024.hgt --quiet
zembrel profile N46W024.hgt sheet.tif relief.tif --along "-23.998,46.002,-23.97,46.012@EPSG:4326" \
    --figure "$shots/profile.png" --replace --quiet
zembrel deliver pyramid landcover.tif --out cover/ --quiet
zembrel deliver pyramid island.tif --title "Isle of Marrowick" --attribution "Marrowick path trust" --viewer map.html \
    --beside cover/ --out photo/ --quiet
chromium --headless --no-sandbox --disable-gpu --allow-file-access-from-files --virtual-time-budget=4000 \
    --window-size=1280,800 --screenshot="$shots/deliver-page.png" "file://$work/demo/map.html" > /dev/null 2>&1
zembrel draw sketch.tif --out "$shots/draw-sketch.png" --replace --quiet

# terminal NAME COMMAND...: what a person sees who types the commands, in a window of 1280 x 800
terminal() {
    name=$1; shift
    printf '%s\n' "$@" > "$work/typed"
    cat > "$work/session" <<'END'
while IFS= read -r line; do printf '\033[1;34m$\033[0m %s\n' "$line"; eval "$line"; echo; done < "$TYPED"
touch "$TYPED.done"; sleep 60
END
    rm -f "$work/typed.done"
    TYPED=$work/typed SHOT=$shots/$name.png xvfb-run -a -s '-screen 0 1280x800x24' sh -c '
        xterm -fa "DejaVu Sans Mono" -fs 10 -geometry 157x47+0+0 -bg white -fg "#222222" -b 12 -bw 0 +sb -e sh "'"$work"'/session" &
        while [ ! -e "$TYPED.done" ]; do sleep 0.2; done; sleep 1
        import -window root "$SHOT"; kill $!'
}
rm -rf island.tif cover40.tif harbour.tif sketch.tif sheets
terminal describe 'zembrel describe ortho/m3.tif ortho/m4.tif' 'zembrel describe ortho dem landcover.tif' \
    'zembrel describe landcover.tif --at -24,46@EPSG:4326'
terminal mosaic 'zembrel mosaic ortho/ --trim-collar --within coast.geojson --out island.tif' \
    'zembrel mosaic ortho/ --cell 1cm --out huge.tif' 'zembrel clip island.tif --within coast.geojson --out land.tif --replace' \
    'zembrel reproject land.tif --crs EPSG:3857 --out web.tif --replace'  \
    'zembrel resample landcover.tif --cell 40m --out cover40.tif' 'zembrel mosaic dem/ --onto harbour.frame.toml --out harbour.tif'
terminal crs "zembrel crs fit 'place:Marrow Harbour' | head -4" 'zembrel crs show EPSG:32627 | head -12' \
    'zembrel crs operations EPSG:27700 EPSG:4326 | head -6' \
    "echo '24 06 00 W,46 00 00 N' | zembrel coords --from-crs EPSG:4326 --crs EPSG:32627" \
    "echo '-24,46,600' | zembrel coords --from-crs EPSG:4979 --crs 'EPSG:32626 + EPSG:5773' --height-grid geoid.gtx"
rm -f lines.gpkg cover.gpkg heights.gpkg back.tif
terminal shapes 'zembrel contour relief.tif --interval 50 --out lines.gpkg' \
    'zembrel polygonize landcover.tif --min-cells 20 --smooth --out cover.gpkg' \
    'zembrel tally relief.tif --zones parcels.geojson --stat mean --out heights.gpkg' \
    'zembrel tally relief.tif --zones parcels.geojson --repair --stat mean --stat max --out heights.gpkg' \
    'zembrel polygonize landcover.tif --out exact.gpkg' \
    'zembrel rasterize exact.gpkg --field value --onto landcover.tif --out back.tif' \
    'zembrel compare landcover.tif back.tif --at-least share=1'
zembrel draw heights.gpkg tracks.geojson --field mean --classes natural:6 --ramp relief \
    --out "$shots/draw-parcels.png" --replace --quiet
rm -rf sources photo.tif survey.tif blocks.laz
export ZEMBREL_CACHE=$work/kept
zembrel standin serve . 2> /dev/null & server=$!
sleep 8
terminal sources \
    "zembrel source add photo 'http://127.0.0.1:8046/xyz/{version}/ortho/{z}/{x}/{y}.jpg' --kind xyz --set version=912 --set private=true" \
    "zembrel source add survey http://127.0.0.1:8046/stac --kind stac --set private=true -q; zembrel source test survey | head -4" \
    "curl -s 'http://127.0.0.1:8046/faults?fail=0.2&dead=/15/14199/11657' > faults.txt" \
    "zembrel fetch photo --within 'place:High Marrow' --reach 1mi --crs EPSG:32626 --cell 4m --out photo.tif" \
    "curl -s 'http://127.0.0.1:8046/faults?fail=0&dead=' > faults.txt" \
    "zembrel fetch photo --within 'place:High Marrow' --reach 1mi --crs EPSG:32626 --cell 4m --out photo.tif --replace" \
    "zembrel fetch survey --onto photo.tif --cloud 45 --composite median --trim-collar --out survey.tif"
kill $server
terminal help 'zembrel --help | pr -2 -t -w 156 -l 44'

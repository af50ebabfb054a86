# unit.sh RUN LABEL UNIT: how a unit stands. Reads only.
unit_report "$3" "$state/runs/$1/$2.begun"

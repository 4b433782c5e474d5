module faithfulcourier

go 1.26

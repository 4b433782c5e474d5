module skerry.example/seasons

go 1.24

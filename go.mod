module admin.tressik.example

go 1.26.0


	github.com/beevik/etree v1.8.1
	github.com/russellhaering/goxmldsig v1.6.1
)


	github.com/jonboulle/clockwork v0.5.0 // indirect
	github.com/stretchr/testify v1.12.1 // indirect
)

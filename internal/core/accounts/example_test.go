package accounts_test

import (
	"fmt"

	"tressik.example/internal/core/accounts"
)

// An app finds accounts by their login. One person has one, one is a stranger whose account differs in letter case.
func ExampleIndex_Match() {
	list := []accounts.Account{{Fields: map[string][]string{"login": {"mira"}}},
		{Fields: map[string][]string{"login": {"Petra"}}}}
	m := accounts.NewIndex(list, "login").Match([]accounts.Arrival{{Person: "mira", Key: []string{"mira"}},
		{Person: "petra", Key: []string{"petra"}}})
	fmt.Println(m.Found[0].Person, m.Found[0].Account)
	fmt.Println(m.Strangers[0].Person, "has none;", m.Strangers[0].Near, "differs in", m.Strangers[0].How)
	// Output:
	// mira mira
	// petra has none; Petra differs in case
}

package doctor

import (
	"encoding/binary"
	"fmt"
	"os"
	"runtime"
	"slices"
	"testing"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// What the kernel itself holds is understood: in a network of its own, which nobody else sees, rules are made and read.
func TestRulesOfTheKernel(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("making rules takes root")
	}
	result := make(chan error, 1)
	var left string
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with its network
		result <- func() error {
			if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
				left = "no network of its own can be made here"
				return nil
			}
			c, err := nftables.New()
			if err != nil {
				return err
			}
			if err := gate(c); err != nil {
				left = "this kernel has no such rules"
				return nil
			}
			rules, err := kernelRules()
			if err != nil {
				return err
			}
			for n, shut := range map[uint16]bool{445: false, 2049: false, 8460: false, 20000: false, 20490: false, 20500: false, 446: true, 444: true, 20501: true, 19999: true, 2050: true} {
				if chain, is := rules.drops(n); is != shut || shut && (chain.Table != "inet moon" || chain.Name != "gate") {
					return fmt.Errorf("port %d: %v, %+v", n, is, rules)
				}
			}
			return nil
		}()
	}()
	require.NoError(t, <-result)
	if left != "" {
		t.Skip(left)
	}
}

// gate makes a chain that drops all but three kinds of ports: one, some of a set, and a range.
func gate(c *nftables.Conn) error {
	drop := nftables.ChainPolicyDrop
	table := c.AddTable(&nftables.Table{Family: nftables.TableFamilyINet, Name: "moon"})
	chain := c.AddChain(&nftables.Chain{Name: "gate", Table: table, Type: nftables.ChainTypeFilter, Hooknum: nftables.ChainHookInput, Priority: nftables.ChainPriorityFilter, Policy: &drop})
	port := func(n uint16) []byte { return binary.BigEndian.AppendUint16(nil, n) }
	set := &nftables.Set{Table: table, Anonymous: true, Constant: true, KeyType: nftables.TypeInetService}
	if err := c.AddSet(set, []nftables.SetElement{{Key: port(2049)}, {Key: port(8460)}}); err != nil {
		return err
	}
	tcp := []expr.Any{&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: []byte{unix.IPPROTO_TCP}},
		&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseTransportHeader, Offset: 2, Len: 2}}
	for _, of := range []expr.Any{&expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: port(445)}, &expr.Lookup{SourceRegister: 1, SetName: set.Name, SetID: set.ID},
		&expr.Range{Op: expr.CmpOpEq, Register: 1, FromData: port(20000), ToData: port(20500)}} {
		c.AddRule(&nftables.Rule{Table: table, Chain: chain, Exprs: append(slices.Clone(tcp), of, &expr.Verdict{Kind: expr.VerdictAccept})})
	}
	return c.Flush()
}

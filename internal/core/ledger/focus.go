package ledger

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
)

// FocusVersion is the version of the FinOps Open Cost and Usage Specification whose columns [WriteFocus] writes.
const FocusVersion = "1.0"

// FocusColumns are the columns of FOCUS 1.0, section 2, in the order of the alphabet.
var FocusColumns = []string{"AvailabilityZone", "BilledCost", "BillingAccountId", "BillingAccountName", "BillingCurrency", "BillingPeriodEnd", "BillingPeriodStart",
	"ChargeCategory", "ChargeClass", "ChargeDescription", "ChargeFrequency", "ChargePeriodEnd", "ChargePeriodStart", "CommitmentDiscountCategory",
	"CommitmentDiscountId", "CommitmentDiscountName", "CommitmentDiscountStatus", "CommitmentDiscountType", "ConsumedQuantity", "ConsumedUnit",
	"ContractedCost", "ContractedUnitPrice", "EffectiveCost", "InvoiceIssuerName", "ListCost", "ListUnitPrice", "PricingCategory", "PricingQuantity",
	"PricingUnit", "ProviderName", "PublisherName", "RegionId", "RegionName", "ResourceId", "ResourceName", "ResourceType", "ServiceCategory", "ServiceName",
	"SkuId", "SkuPriceId", "SubAccountId", "SubAccountName", "Tags"}

// WriteFocus writes what a query asks for as CSV with the columns of FOCUS, a row for each thing and day (UTC) on which it stood. Amounts are in
// the currency of the rates, which the specification wants to be one of ISO 4217.
func WriteFocus(w io.Writer, all []Entry, q Query, p Prices, rates *Rates) (rows int, err error) {
	if rates == nil {
		return 0, fault.Invalidf("FOCUS wants costs in a currency of ISO 4217, and nobody said what a unit is worth: andamio account rates set FILE does")
	}
	out := csv.NewWriter(w)
	if err := out.Write(FocusColumns); err != nil {
		return 0, err
	}
	for i := range all {
		e := &all[i]
		if !q.fits(e) {
			continue
		}
		n, err := writeEntry(out, e, q, p, rates)
		if err != nil {
			return rows, err
		}
		rows += n
	}
	out.Flush()
	return rows, out.Error()
}

// writeEntry writes the days of an entry.
func writeEntry(out *csv.Writer, e *Entry, q Query, p Prices, rates *Rates) (rows int, err error) {
	from, to := q.From.UTC(), q.To.UTC()
	if e.From.After(from) {
		from = e.From.UTC()
	}
	if !e.To.IsZero() && e.To.Before(to) {
		to = e.To.UTC()
	}
	for from.Before(to) {
		next := date(from, from.Month(), from.Day()).AddDate(0, 0, 1)
		until := next
		if to.Before(until) {
			until = to
		}
		row, err := focusRow(e, from, until, p, rates)
		if err != nil {
			return rows, err
		}
		record := make([]string, len(FocusColumns))
		for i, name := range FocusColumns {
			record[i] = row[name]
		}
		if err := out.Write(record); err != nil {
			return rows, err
		}
		rows++
		from = next
	}
	return rows, nil
}

// focusTime is how FOCUS writes a time (section 4.3, date and time format).
func focusTime(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05Z") }

// focusRow is an entry within a day. What is not said in it has no value.
func focusRow(e *Entry, from, to time.Time, p Prices, rates *Rates) (map[string]string, error) {
	tags := map[string]string{"deployment": e.Name, "application": e.Application}
	if e.Owner.Stage != "" {
		tags["stage"] = e.Owner.Stage
	}
	if e.Owner.Person != "" {
		tags["owner"] = e.Owner.Person
	}
	for name, v := range e.Owner.Tags {
		tags[name] = v
	}
	text, err := json.Marshal(tags)
	if err != nil {
		return nil, err
	}
	month := date(from, from.Month(), 1)
	cost := rates.cost(&e.Charge, from, to).String()
	price := strconv.FormatFloat(e.PerHour.Units()*rates.At(from), 'f', 12, 64)
	hours := strconv.FormatFloat(float64(e.Seconds(from, to))/secondsPerHour, 'f', 9, 64)
	provider := e.Site
	if s := p.Last(e.Site); s != nil {
		provider = cmp.Or(s.Provider, s.Title, e.Site)
	}
	sort := focusSorts[e.Kind]
	sku := e.Site + "/" + e.key("size")
	if e.Off {
		sku += "/off"
	}
	row := map[string]string{
		"AvailabilityZone": e.Zone, "BillingAccountId": e.Site, "BillingAccountName": e.Site, "BillingCurrency": rates.Currency,
		"BillingPeriodStart": focusTime(month), "BillingPeriodEnd": focusTime(month.AddDate(0, 1, 0)),
		"ChargePeriodStart": focusTime(from), "ChargePeriodEnd": focusTime(to),
		"ChargeCategory": "Usage", "ChargeFrequency": "Usage-Based", "ChargeDescription": describe(e),
		"ConsumedQuantity": hours, "ConsumedUnit": "Hours", "PricingQuantity": hours, "PricingUnit": "Hours", "PricingCategory": "Standard",
		"BilledCost": cost, "EffectiveCost": cost, "ListCost": cost, "ContractedCost": cost, "ListUnitPrice": price, "ContractedUnitPrice": price,
		"InvoiceIssuerName": provider, "ProviderName": provider, "PublisherName": provider, "RegionId": e.Site, "RegionName": e.Site,
		"ResourceId": e.Name + "/" + e.Resource, "ResourceName": cmp.Or(e.Title, e.Resource), "ResourceType": sort.resource,
		"ServiceCategory": sort.category, "ServiceName": sort.service, "SkuId": sku, "SkuPriceId": sku + "/" + price,
		"SubAccountId": e.Owner.Team, "SubAccountName": e.Owner.Team, "Tags": string(text)}
	return row, nil
}

// focusSorts are how FOCUS sorts what stands (section 2, service category).
var focusSorts = map[kinds.Kind]struct{ category, service, resource string }{
	kinds.Instance: {"Compute", "Instances", "Instance"}, kinds.Volume: {"Storage", "Volumes", "Volume"},
	kinds.Network: {"Networking", "Networks", "Network"}, kinds.Interface: {"Networking", "Addresses", "Interface"},
	kinds.Object: {"Storage", "Objects", "Object"}, kinds.Snapshot: {"Storage", "Snapshots", "Snapshot"},
}

// describe is what a charge is of, in words.
func describe(e *Entry) string {
	out := fmt.Sprintf("%s %s at %s", cmp.Or(focusSorts[e.Kind].resource, string(e.Kind)), e.key("size"), e.Site)
	if e.Kind != kinds.Instance {
		out = fmt.Sprintf("%s of %g GiB at %s", cmp.Or(focusSorts[e.Kind].resource, string(e.Kind)), e.DiskGiB, e.Site)
	}
	if e.Off {
		out += ", switched off"
	}
	return out
}

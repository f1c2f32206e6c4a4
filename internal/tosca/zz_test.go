package tosca_test
import ("testing";"strings";"time";"runtime";"fmt")
func TestZZ(t *testing.T){
 bomb := "tosca_definitions_version: tosca_2_0\ndsl_definitions:\n  a0: &a0 [ x, x, x, x, x, x, x, x, x, x ]\n"
 for i:=1;i<12;i++ { bomb += fmt.Sprintf("  a%d: &a%d [ %s ]\n", i,i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ",i-1),10),", ")) }
 bomb += "service_template:\n  node_templates:\n    t: { type: Topic, properties: { label: *a11 } }\n"
 block:=strings.Builder{}; for i:=0;i<10000;i++ { block.WriteString(strings.Repeat(" ",i)+"a:\n") }
 keys:=strings.Builder{}; keys.WriteString("a:\n"); for i:=0;i<10000;i++ { keys.WriteString("- ") }; keys.WriteString("x\n")
 bq:=strings.Repeat("? ",10000)+"a"
 for n,text:=range map[string]string{"bomb":bomb,"flow":strings.Repeat("[",10000),"flow2":strings.Repeat("[",10000)+strings.Repeat("]",10000),"block":block.String(),"dashes":keys.String(),"questions":bq,"maps":strings.Repeat("{a: ",10000)} {
  var a,b runtime.MemStats; runtime.GC(); runtime.ReadMemStats(&a); s:=time.Now(); l:=findings("x",text); d:=time.Since(s); runtime.ReadMemStats(&b)
  t.Log(n,len(text),d,(b.TotalAlloc-a.TotalAlloc)>>20,"MB", l[0].Code)
 }
}

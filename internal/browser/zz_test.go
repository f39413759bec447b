package browser_test
import ("testing";"os";"strings";"fmt";"strconv";"keenlantern.example/internal/browser")
func TestZZ(t *testing.T){
 w,h:=int64(1280),int64(800)
 if v:=os.Getenv("W"); v!="" { n,_:=strconv.Atoi(v); w=int64(n); h=1080 }
 base:=os.Getenv("BASE"); if base=="" { base="http://127.0.0.1:7463" }
 for _,one := range strings.Fields(os.Getenv("SHOTS")) {
  name,path,_:=strings.Cut(one,"=")
  p,err:=chrome.Page(base, browser.View{Width:w,Height:h,Dark:os.Getenv("DARK")!=""})
  if err!=nil {t.Fatal(err)}
  if err:=p.Go(path);err!=nil {t.Fatal(err)}
  p.Wait("h1"); p.Wait("main"); p.Picture(); png,_:=p.Picture()
  if js:=os.Getenv("JS"); js!="" { fmt.Println(p.Run(js)); p.Picture(); png,_=p.Picture() }
  os.WriteFile("/tmp/shot-"+name+".png", png, 0o644)
  if f:=p.Faults(); len(f)>0 { fmt.Println(name, f) }
  p.Close()
 }
}
